// The frame of every chart: its title, what is read from it, and its numbers to look at and to take home.
import { Download, Image as ImageIcon, Table2 } from "lucide-react";
import { type ReactNode, type RefObject, useId, useState } from "react";
import { fileName, saveFile, toCsv } from "../csv";

export type ChartTable = { head: string[]; rows: (string | number | null)[][] };
const SHOWN_ROWS = 200;

/**
 * title, unit : what is drawn. reading : the values at the moment that is read. table : all numbers of the chart.
 * picture : the element whose canvases are taken home as PNG.
 */
export function ChartFrame({
  title,
  unit,
  reading,
  table,
  picture,
  children,
}: {
  title: string;
  unit?: string;
  reading?: string;
  table: ChartTable;
  picture: RefObject<HTMLDivElement | null>;
  children: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const id = useId();
  return (
    <figure className="group/chart min-w-0" aria-labelledby={`${id}title`}>
      <figcaption className="relative flex min-h-6 items-center justify-between gap-4 text-small">
        <span id={`${id}title`}>
          <span className="font-semibold">{title}</span> {unit && <span className="text-faint">{unit}</span>}
        </span>
        <span className="flex min-w-0 items-center gap-3">
          <span className="truncate text-soft group-hover/chart:mr-20 group-focus-within/chart:mr-20" aria-live="polite">
            {reading}
          </span>
          {/* over the reading while they are pointed at, so that titles have the room */}
          <span className="absolute right-0 flex shrink-0 gap-1 rounded-small bg-card pl-2 opacity-0 group-focus-within/chart:opacity-100 group-hover/chart:opacity-100">
            <Tool label={`${open ? "hide" : "show"} the numbers of ${title}`} onClick={() => setOpen(!open)} pressed={open}>
              <Table2 size={14} aria-hidden />
            </Tool>
            <Tool
              label={`${title} as CSV`}
              onClick={() => saveFile(`${fileName(title)}.csv`, new Blob([toCsv(table.head, table.rows)], { type: "text/csv" }))}
            >
              <Download size={14} aria-hidden />
            </Tool>
            <Tool label={`${title} as PNG`} onClick={() => picture.current && savePicture(picture.current, title, unit ?? "")}>
              <ImageIcon size={14} aria-hidden />
            </Tool>
          </span>
        </span>
      </figcaption>
      {children}
      <div className={open ? "mt-2 max-h-56 overflow-auto border border-line" : "sr-only"}>
        <table className="figures w-full">
          <caption className="sr-only">{title}</caption>
          <thead>
            <tr>
              {table.head.map((name, column) => (
                <th key={name} scope="col" className={column ? "num" : ""}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {table.rows.slice(-SHOWN_ROWS).map((row) => (
              <tr key={String(row[0])}>
                {row.map((value, column) =>
                  column ? (
                    <td key={column} className="num">
                      {value ?? "–"}
                    </td>
                  ) : (
                    <th key={column} scope="row">
                      {value}
                    </th>
                  ),
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </figure>
  );
}

const Tool = ({ label, onClick, pressed, children }: { label: string; onClick: () => void; pressed?: boolean; children: ReactNode }) => (
  <button
    type="button"
    aria-label={label}
    title={label}
    aria-pressed={pressed}
    onClick={onClick}
    className="rounded-small p-1 text-faint hover:bg-sunk hover:text-ink aria-pressed:bg-sunk"
  >
    {children}
  </button>
);

/** The chart as it stands on the page, on its paper and under its title. */
function savePicture(element: HTMLDivElement, title: string, unit: string): void {
  const drawn = [...element.querySelectorAll("canvas")];
  const box = element.getBoundingClientRect();
  const scale = window.devicePixelRatio || 1;
  const head = 28;
  const canvas = document.createElement("canvas");
  canvas.width = box.width * scale;
  canvas.height = (box.height + head) * scale;
  const pen = canvas.getContext("2d");
  if (!pen) return;
  const style = getComputedStyle(element);
  pen.scale(scale, scale);
  pen.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--card");
  pen.fillRect(0, 0, box.width, box.height + head);
  pen.fillStyle = style.color;
  pen.font = `600 13px ${style.fontFamily}`;
  pen.fillText(unit ? `${title}, ${unit}` : title, 8, 18);
  for (const part of drawn) {
    const place = part.getBoundingClientRect();
    pen.drawImage(part, place.left - box.left, place.top - box.top + head, place.width, place.height);
  }
  canvas.toBlob((content) => content && saveFile(`${fileName(title)}.png`, content));
}
