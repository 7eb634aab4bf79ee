// The small parts that every page is made of.
import { Check, Copy } from "lucide-react";
import { Tabs, ToggleGroup } from "radix-ui";
import { type ButtonHTMLAttributes, type ReactNode, useEffect, useState } from "react";
import { ProblemError } from "../api/client";
import type { Snippet } from "../snippets";
import { Term } from "./Tip";

const BUTTONS = {
  main: "bg-amber-fill text-[#1d2731] font-semibold hover:brightness-105 active:brightness-95 disabled:opacity-60",
  quiet: "border border-line bg-card text-ink hover:border-slate-fill disabled:opacity-60",
  danger: "border border-brick bg-card text-brick hover:bg-brick-wash disabled:opacity-60",
} as const;

/** The one thing to press on a page is `main`, what cannot be undone is `danger`; everything else is quiet. */
export function Button({
  kind = "quiet",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: keyof typeof BUTTONS }) {
  return (
    <button
      type="button"
      className={`h-8 shrink-0 rounded-small px-3 inline-flex items-center justify-center gap-2 whitespace-nowrap ${BUTTONS[kind]} ${className}`}
      {...rest}
    />
  );
}

/** term : the word of the glossary that the title is about, explained where it is pointed at. */
export function Card({
  title,
  term,
  aside,
  children,
  className = "",
}: {
  title: string;
  term?: string;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section className={`rounded-card border border-line bg-card ${className}`} aria-label={title}>
      <header className="flex flex-wrap items-center justify-between gap-x-4 px-4 pt-3">
        <h2 className="font-semibold">{term ? <Term word={term}>{title}</Term> : title}</h2>
        {aside}
      </header>
      <div className="relative px-4 pt-2 pb-4 max-lg:overflow-x-auto">{children}</div>
    </section>
  );
}

/** One of a few, such as a span of time; what is chosen is underlined. */
export function Segments<T extends string>({
  label,
  all,
  chosen,
  onChoose,
}: {
  label: string;
  all: readonly T[];
  /** null for none of them */
  chosen: T | null;
  onChoose: (one: T) => void;
}) {
  return (
    <ToggleGroup.Root
      type="single"
      className="flex gap-1"
      aria-label={label}
      value={chosen ?? ""}
      onValueChange={(value) => value && onChoose(value as T)}
    >
      {all.map((one) => (
        <ToggleGroup.Item
          key={one}
          value={one}
          className="h-8 rounded-small px-3 whitespace-nowrap text-soft hover:text-ink data-[state=on]:bg-card data-[state=on]:font-semibold data-[state=on]:text-ink data-[state=on]:shadow-[inset_0_-2px_0_var(--amber-fill)]"
        >
          {one}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

/** A name, value or command. */
export const Mono = ({ children, className = "" }: { children: ReactNode; className?: string }) => (
  <span className={`font-mono ${className}`}>{children}</span>
);

export function CopyButton({ text, label = "Copy" }: { text: string; label?: string }) {
  const [done, setDone] = useState(false);
  useEffect(() => {
    if (!done) return;
    const timer = setTimeout(() => setDone(false), 1_600);
    return () => clearTimeout(timer);
  }, [done]);
  return (
    <button
      type="button"
      className="inline-flex items-center gap-1 text-small text-soft hover:text-ink"
      onClick={() => void navigator.clipboard.writeText(text).then(() => setDone(true))}
    >
      {done ? <Check size={13} aria-hidden /> : <Copy size={13} aria-hidden />}
      <span aria-live="polite">{done ? "Copied" : label}</span>
    </button>
  );
}

/** Commands and code to copy; tabs when there is more than one. */
export function Snippets({ all, id }: { all: Snippet[]; id: string }) {
  const [shown, setShown] = useState(all[0]?.name ?? "");
  const current = all.find((one) => one.name === shown) ?? all[0];
  return (
    <Tabs.Root value={shown} onValueChange={setShown}>
      <div className="flex items-center justify-between">
        <Tabs.List className="flex gap-4" aria-label={id}>
          {all.map(({ name }) => (
            <Tabs.Trigger
              key={name}
              value={name}
              className="h-8 border-b-2 border-transparent whitespace-nowrap text-soft hover:text-ink data-[state=active]:border-amber-fill data-[state=active]:text-ink"
            >
              {name}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <CopyButton text={current?.text ?? ""} />
      </div>
      {all.map(({ name, text }) => (
        <Tabs.Content key={name} value={name}>
          <pre className="mt-2 max-h-56 overflow-auto rounded-small bg-sunk p-3 font-mono text-small whitespace-pre-wrap break-words">
            {text}
          </pre>
        </Tabs.Content>
      ))}
    </Tabs.Root>
  );
}

/** What went wrong, why, and what next. */
export function Trouble({ error, again }: { error: Error; again?: () => void }) {
  return (
    <div role="alert" className="rounded-card border border-brick bg-brick-wash p-4">
      <p className="font-semibold text-brick">{error instanceof ProblemError ? error.title : "The service cannot be reached"}</p>
      <p className="mt-1 break-words">
        {error instanceof ProblemError
          ? error.message
          : "Nothing answers. Is it running? Start it with lamppost up; this page goes on by itself."}
      </p>
      {again && (
        <Button className="mt-3" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** Keeps the layout still while something loads. */
export const Waiting = ({ height, label }: { height: number; label: string }) => (
  <div role="status" aria-busy="true" aria-label={label} className="rounded-card bg-sunk" style={{ height }} />
);
