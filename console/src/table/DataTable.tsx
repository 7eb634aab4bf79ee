// Every table of the console: sorted by a head, with columns to choose, rows that open, keys, and all of it as CSV. Of many rows only those in
// sight are drawn.
import {
  type ColumnDef,
  columnVisibilityFeature,
  createSortedRowModel,
  rowSortingFeature,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import { ChevronRight } from "lucide-react";
import { type KeyboardEvent, type ReactNode, useMemo, useRef, useState } from "react";
import type { CsvCell } from "../csv";
import { Truncated } from "../parts/Tip";
import { compareCells, nextRow } from "./rows";
import { SortableHead } from "./SortableHead";
import { TableMenu } from "./TableMenu";
import { useVisibleRows } from "./useVisibleRows";

/**
 * id : its name in menus and CSV. head : what stands above it, `id` by default; null for a head that only screen readers get.
 * value : what it is sorted by and what CSV gets; without one the column has neither. cell : how it is shown, the value by default.
 * term : the word of the glossary that explains it. numeric : right-aligned. grow : takes the room that is left.
 * width : pixels where the table is drawn in parts. hidden : not shown at first.
 */
export type Column<Row> = {
  id: string;
  head?: ReactNode;
  term?: string;
  value?: (row: Row) => CsvCell;
  cell?: (row: Row) => ReactNode;
  numeric?: boolean;
  grow?: boolean;
  width?: number;
  hidden?: boolean;
  className?: string | ((row: Row) => string);
};

type Props<Row> = {
  /** What the rows are: for screen readers, and as the name of the CSV file. */
  label: string;
  columns: Column<Row>[];
  rows: Row[];
  rowKey: (row: Row) => string;
  /** What a row is called by the button that opens it; its key by default. */
  rowName?: (row: Row) => string;
  rowClass?: (row: Row) => string;
  /** What a row opens to. */
  details?: (row: Row) => ReactNode;
  /** The row that is open at first. */
  opened?: string | null;
  /** Pixels; rows beyond it scroll inside the table. */
  height?: number;
};

const features = tableFeatures({ columnVisibilityFeature, rowSortingFeature, sortedRowModel: createSortedRowModel() });
type Features = typeof features;

export function DataTable<Row extends object>({
  label,
  columns,
  rows,
  rowKey,
  rowName = rowKey,
  rowClass,
  details,
  opened = null,
  height = 640,
}: Props<Row>) {
  const scroller = useRef<HTMLDivElement>(null);
  const [open, setOpen] = useState<string | null>(opened);
  const [active, setActive] = useState(0);
  // columns are written anew with each render of a page: what matters to the table are their names
  const names = columns.map((column) => column.id).join("\n");
  const latest = new Map(columns.map((column) => [column.id, column]));
  const definitions = useMemo(
    () =>
      columns.map((column): ColumnDef<Features, Row> => ({
        id: column.id,
        accessorFn: (row) => column.value?.(row) ?? undefined,
        enableSorting: column.value !== undefined,
        sortUndefined: "last",
        sortFn: (a, b) => compareCells(a.getValue<CsvCell>(column.id), b.getValue<CsvCell>(column.id)),
      })),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [names],
  );
  const table = useTable<Features, Row>({
    features,
    columns: definitions,
    data: rows,
    getRowId: rowKey,
    initialState: { columnVisibility: Object.fromEntries(columns.filter((column) => column.hidden).map((column) => [column.id, false])) },
  });
  const shown = table.getVisibleLeafColumns().map((column) => ({ ...latest.get(column.id)!, column }));
  const sorted = table.getRowModel().rows;
  const { inParts, before, after, items, measure, scrollTo } = useVisibleRows(scroller, sorted.length, (index) => sorted[index]!.id);
  const width = shown.length + (details ? 2 : 1);
  const wide = shown.length > 4;
  const growth = shown.filter((one) => one.grow).length > 1 ? "w-1/2" : "w-full";

  function onKey(event: KeyboardEvent<HTMLTableElement>): void {
    if (!(event.target instanceof HTMLTableRowElement)) return;
    if (event.key === "Enter" || event.key === " ") {
      event.preventDefault();
      event.target.querySelector<HTMLElement>("button,a")?.click();
      return;
    }
    const next = nextRow(event.key, active, sorted.length);
    if (next === null) return;
    event.preventDefault();
    setActive(next);
    scrollTo(next);
    const container = scroller.current;
    requestAnimationFrame(() => container?.querySelector<HTMLElement>(`tr[data-row="${next}"]`)?.focus());
  }

  return (
    <div
      ref={scroller}
      className={inParts ? "overflow-auto" : "max-lg:overflow-x-auto"}
      style={inParts ? { maxHeight: height } : undefined}
    >
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions -- the keys move among rows, which are focused themselves */}
      <table
        className={`figures w-full ${wide ? "max-lg:min-w-[44rem]" : ""} ${inParts ? "table-fixed" : ""}`}
        aria-label={label}
        aria-rowcount={sorted.length + 1}
        onKeyDown={onKey}
      >
        <thead className="sticky top-0 z-10 bg-card">
          <tr>
            {details && (
              <th className="w-6" scope="col">
                <span className="sr-only">open</span>
              </th>
            )}
            {shown.map(({ column, ...one }) => (
              <SortableHead
                key={one.id}
                name={one.id}
                term={one.term}
                numeric={one.numeric}
                className={one.grow && !inParts ? growth : ""}
                width={inParts ? (one.width ?? (one.grow ? undefined : one.numeric ? 88 : 152)) : one.width}
                direction={column.getIsSorted()}
                onSort={column.getCanSort() ? () => column.toggleSorting(undefined) : undefined}
              >
                {one.head === undefined ? one.id : one.head}
              </SortableHead>
            ))}
            <th className="w-7 !pr-0 text-right" scope="col">
              <TableMenu
                label={label}
                columns={table.getAllLeafColumns().map((column) => ({
                  name: column.id,
                  shown: column.getIsVisible(),
                  toggle: () => column.toggleVisibility(),
                }))}
                head={shown.filter((one) => one.value).map((one) => one.id)}
                rows={() => sorted.map((row) => shown.filter((one) => one.value).map((one) => one.value!(row.original)))}
              />
            </th>
          </tr>
        </thead>
        {before > 0 && <Space height={before} columns={width} />}
        {items.map((index) => {
          const { id, original: row } = sorted[index]!;
          const isOpen = open === id;
          return (
            <tbody key={id} data-index={index} ref={measure}>
              <tr
                data-row={index}
                aria-rowindex={index + 2}
                tabIndex={index === Math.min(active, sorted.length - 1) ? 0 : -1}
                onFocus={() => setActive(index)}
                onClick={details && ((event) => !ofItsOwn(event.target) && setOpen(isOpen ? null : id))}
                className={`relative hover:bg-sunk focus-visible:-outline-offset-2 ${details ? "cursor-pointer" : ""} ${rowClass?.(row) ?? ""}`}
              >
                {details && (
                  <td>
                    <button
                      type="button"
                      tabIndex={-1}
                      aria-expanded={isOpen}
                      aria-label={rowName(row)}
                      onClick={() => setOpen(isOpen ? null : id)}
                      className="flex items-center text-faint"
                    >
                      <ChevronRight size={14} className={isOpen ? "rotate-90" : ""} aria-hidden />
                    </button>
                  </td>
                )}
                {shown.map((one) => (
                  <td
                    key={one.id}
                    className={`${one.numeric ? "num" : one.grow || inParts ? "max-w-0" : ""} ${typeof one.className === "function" ? one.className(row) : (one.className ?? "")}`}
                  >
                    <Cell cut={!one.numeric && (inParts || one.grow === true)} focusable={!details}>
                      {one.cell ? one.cell(row) : (one.value?.(row) ?? "–")}
                    </Cell>
                  </td>
                ))}
                <td />
              </tr>
              {isOpen && details && (
                <tr className="border-t-0!">
                  <td />
                  <td colSpan={width - 1} className="!whitespace-normal pb-3">
                    {details(row)}
                  </td>
                </tr>
              )}
            </tbody>
          );
        })}
        {after > 0 && <Space height={after} columns={width} />}
      </table>
    </div>
  );
}

/** Whether what was clicked does something of its own, so that its row must not open too. */
const ofItsOwn = (target: EventTarget): boolean => target instanceof Element && target.closest("a,button,input,[role=button]") !== null;

const Cell = ({ cut, focusable, children }: { cut: boolean; focusable: boolean; children: ReactNode }) =>
  cut ? <Truncated focusable={focusable}>{children}</Truncated> : children;

/** Stands for the rows that are not in sight. */
const Space = ({ height, columns }: { height: number; columns: number }) => (
  <tbody aria-hidden>
    <tr className="border-0!">
      <td colSpan={columns} style={{ height, padding: 0 }} />
    </tr>
  </tbody>
);
