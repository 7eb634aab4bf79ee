// Words that appear at what the pointer or the keyboard is on: of terms, of texts that are cut short, of marks.
import { Tooltip } from "radix-ui";
import { type ReactElement, type ReactNode, useRef, useState } from "react";
import { glossary } from "../glossary";

/** text : nothing shows no tip. */
export function Tip({ text, children }: { text: ReactNode; children: ReactElement }) {
  if (!text) return children;
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Content>{text}</Content>
    </Tooltip.Root>
  );
}

const Content = ({ children }: { children: ReactNode }) => (
  <Tooltip.Portal>
    <Tooltip.Content
      sideOffset={6}
      collisionPadding={8}
      className="z-50 max-w-[min(420px,90vw)] rounded-small border border-line bg-card px-3 py-2 text-small break-words whitespace-normal text-ink shadow-lg"
    >
      {children}
      <Tooltip.Arrow className="fill-line" />
    </Tooltip.Content>
  </Tooltip.Portal>
);

/** A text on one line. Where it is cut short, the whole is its tip, also for the keyboard. tip : in place of the text itself. */
export function Truncated({
  children,
  tip,
  className = "",
  focusable = true,
}: {
  children: ReactNode;
  tip?: ReactNode;
  className?: string;
  /** Whether the keyboard stops at it when it is cut short; not inside what is focused itself. */
  focusable?: boolean;
}) {
  const element = useRef<HTMLSpanElement>(null);
  const [open, setOpen] = useState(false);
  const isCut = (): boolean => !!element.current && element.current.scrollWidth > element.current.clientWidth;
  const [cut, setCut] = useState(false);
  return (
    <Tooltip.Root open={open} onOpenChange={(next) => setOpen(next && isCut())}>
      <Tooltip.Trigger asChild>
        <span
          ref={(node) => {
            element.current = node;
            if (node && isCut() !== cut) setCut(isCut());
          }}
          // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- the only way for the keyboard to read what is cut short
          tabIndex={cut && focusable ? 0 : undefined}
          className={`block truncate ${className}`}
        >
          {children}
        </span>
      </Tooltip.Trigger>
      <Content>{tip ?? children}</Content>
    </Tooltip.Root>
  );
}

/** A word of the glossary, underlined by dots; its sentence is its tip. */
export function Term({ word, children }: { word: string; children?: ReactNode }) {
  const meaning = glossary.get(word);
  if (!meaning) return <>{children ?? word}</>;
  return (
    <Tip
      text={
        <>
          <strong className="font-semibold">{word}</strong> {meaning}
        </>
      }
    >
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- a term is read by keyboard too */}
      <span tabIndex={0} className="cursor-help underline decoration-faint decoration-dotted underline-offset-4">
        {children ?? word}
      </span>
    </Tip>
  );
}
