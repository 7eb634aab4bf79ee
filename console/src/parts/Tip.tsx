// Words that appear at what the pointer or the keyboard is on: of terms, of texts that are cut short, of marks.
import { Popover, Tooltip } from "radix-ui";
import { type ReactElement, type ReactNode, type RefObject, useEffect, useRef, useState } from "react";
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

const BUBBLE =
  "z-50 max-w-[min(420px,90vw)] rounded-small border border-line bg-card px-3 py-2 text-small break-words whitespace-normal text-ink shadow-lg";

const Content = ({ children }: { children: ReactNode }) => (
  <Tooltip.Portal>
    <Tooltip.Content sideOffset={6} collisionPadding={8} className={BUBBLE}>
      {children}
      <Tooltip.Arrow className="fill-line" />
    </Tooltip.Content>
  </Tooltip.Portal>
);

/** What stands in place of a cut text's own words, by its element. */
const tips = new WeakMap<Element, ReactNode>();
const isCut = (element: Element): boolean => element.scrollWidth > element.clientWidth;

/**
 * A text on one line. Where it is cut short, the whole is shown by `CutTexts`, also for the keyboard. tip : in place of the text itself.
 * focusable : whether the keyboard stops at it when it is cut short; not inside what is focused itself.
 */
export function Truncated({
  children,
  tip,
  className = "",
  focusable = true,
}: {
  children: ReactNode;
  tip?: ReactNode;
  className?: string;
  focusable?: boolean;
}) {
  return (
    <span
      ref={(element) => {
        if (!element) return;
        tips.set(element, tip ?? children);
        if (focusable && isCut(element)) element.tabIndex = 0;
        else element.removeAttribute("tabindex");
      }}
      data-cut=""
      className={`block truncate ${className}`}
    >
      {children}
    </span>
  );
}

/** Shows the whole of the cut text that is pointed at or focused. One for the page: a tooltip for each text would cost more than the text. */
export function CutTexts() {
  const [cut, setCut] = useState<{ element: Element; text: ReactNode } | null>(null);
  const anchor = useRef<Element>(null);
  useEffect(() => {
    const show = (event: Event): void => {
      const element = event.target instanceof Element ? event.target.closest("[data-cut]") : null;
      if (element && isCut(element)) {
        anchor.current = element;
        setCut({ element, text: tips.get(element) });
      } else setCut(null);
    };
    const hide = (): void => setCut(null);
    const onKey = (event: KeyboardEvent): void => {
      if (event.key === "Escape") hide();
    };
    document.addEventListener("pointerover", show);
    document.addEventListener("focusin", show);
    document.addEventListener("focusout", hide);
    document.addEventListener("scroll", hide, true);
    document.addEventListener("keydown", onKey);
    return () => {
      document.removeEventListener("pointerover", show);
      document.removeEventListener("focusin", show);
      document.removeEventListener("focusout", hide);
      document.removeEventListener("scroll", hide, true);
      document.removeEventListener("keydown", onKey);
    };
  }, []);
  if (!cut) return null;
  return (
    <Popover.Root open>
      <Popover.Anchor virtualRef={anchor as RefObject<Element>} />
      <Popover.Portal>
        <Popover.Content
          role="tooltip"
          side="top"
          align="start"
          sideOffset={4}
          collisionPadding={8}
          onOpenAutoFocus={(event) => event.preventDefault()}
          onCloseAutoFocus={(event) => event.preventDefault()}
          className={`pointer-events-none ${BUBBLE}`}
        >
          {cut.text}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
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
