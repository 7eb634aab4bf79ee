// The head of a column: pressed once it sorts upwards, twice downwards, three times not at all.
import { ArrowDown, ArrowUp } from "lucide-react";
import type { ReactNode } from "react";
import { glossary } from "../glossary";
import { Tip } from "../parts/Tip";

const ORDERS = { asc: "ascending", desc: "descending" } as const;

export function SortableHead({
  name,
  term,
  numeric = false,
  className,
  width,
  direction,
  onSort,
  children,
}: {
  name: string;
  /** A word of the glossary. */
  term?: string;
  numeric?: boolean;
  className: string;
  width?: number;
  direction: "asc" | "desc" | false;
  onSort?: () => void;
  children: ReactNode;
}) {
  const Arrow = direction === "asc" ? ArrowUp : ArrowDown;
  return (
    <th
      scope="col"
      className={`${numeric ? "num" : ""} ${className}`}
      style={width ? { width } : undefined}
      aria-sort={direction ? ORDERS[direction] : undefined}
    >
      {!onSort ? (
        children === null ? (
          <span className="sr-only">{name}</span>
        ) : (
          children
        )
      ) : (
        <Tip text={term && glossary.get(term)}>
          <button
            type="button"
            onClick={onSort}
            className={`inline-flex max-w-full items-center gap-1 font-[inherit] hover:text-ink ${direction ? "text-ink" : ""}`}
          >
            <span className={`truncate ${term ? "underline decoration-faint decoration-dotted underline-offset-4" : ""}`}>{children}</span>
            {direction && <Arrow size={11} aria-hidden className="shrink-0" />}
          </button>
        </Tip>
      )}
    </th>
  );
}
