import { Collapsible } from "radix-ui";
import { ChevronRight } from "lucide-react";
import type { ReactNode } from "react";

/** Details below a line that opens and closes them; they are drawn once they are open. */
export function Disclosure({ line, children, className = "mt-2" }: { line: ReactNode; children: ReactNode; className?: string }) {
  return (
    <Collapsible.Root className={className}>
      <Collapsible.Trigger className="group flex items-center gap-1 text-small text-soft hover:text-ink">
        <ChevronRight size={14} aria-hidden className="transition-transform group-data-[state=open]:rotate-90" />
        {line}
      </Collapsible.Trigger>
      <Collapsible.Content>{children}</Collapsible.Content>
    </Collapsible.Root>
  );
}
