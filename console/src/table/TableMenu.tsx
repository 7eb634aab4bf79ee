// What a table offers beside its rows: which columns are shown, and all of it as CSV.
import { Check, Ellipsis } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";
import { type CsvCell, fileName, saveFile, toCsv } from "../csv";
import { useToast } from "../parts/Toasts";
import { count, plural } from "../words";

type Toggle = { name: string; shown: boolean; toggle: () => void };

/** head, rows : of the CSV; rows are made only when they are asked for. */
export function TableMenu({ label, columns, head, rows }: { label: string; columns: Toggle[]; head: string[]; rows: () => CsvCell[][] }) {
  const toast = useToast();
  function copy(): void {
    const all = rows();
    void navigator.clipboard
      .writeText(toCsv(head, all))
      .then(() => toast({ title: `Copied ${plural(all.length, "row")} as CSV` }))
      .catch(() => toast({ title: "The browser did not allow copying; save the rows as a file instead" }));
  }
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="inline-flex h-6 w-6 items-center justify-center rounded-small align-middle text-faint hover:bg-sunk hover:text-ink"
        aria-label={`columns and CSV of ${label}`}
      >
        <Ellipsis size={14} aria-hidden />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 max-h-96 min-w-48 overflow-y-auto rounded-small border border-line bg-card p-1 shadow-lg"
        >
          <Item onSelect={copy}>Copy as CSV</Item>
          <Item onSelect={() => saveFile(`${fileName(label)}.csv`, new Blob([toCsv(head, rows())], { type: "text/csv" }))}>
            Save as CSV
          </Item>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          <DropdownMenu.Label className="px-2 py-1 text-small text-faint">Columns ({count(columns.length)})</DropdownMenu.Label>
          {columns.map((column) => (
            <DropdownMenu.CheckboxItem
              key={column.name}
              checked={column.shown}
              disabled={column.shown && columns.filter((one) => one.shown).length === 1}
              onCheckedChange={column.toggle}
              onSelect={(event) => event.preventDefault()}
              className="flex h-8 cursor-pointer items-center gap-2 rounded-small px-2 outline-none select-none data-[disabled]:text-faint data-[highlighted]:bg-sunk"
            >
              <span className="w-4">
                <DropdownMenu.ItemIndicator>
                  <Check size={14} aria-hidden />
                </DropdownMenu.ItemIndicator>
              </span>
              {column.name}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

const Item = ({ onSelect, children }: { onSelect: () => void; children: ReactNode }) => (
  <DropdownMenu.Item
    onSelect={onSelect}
    className="flex h-8 cursor-pointer items-center rounded-small px-2 outline-none select-none data-[highlighted]:bg-sunk"
  >
    {children}
  </DropdownMenu.Item>
);
