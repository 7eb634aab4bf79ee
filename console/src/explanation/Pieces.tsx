// Parts within one field that carried the answer: words marked in their text, regions drawn over their picture, or bars.
import type { WithinField } from "./queries";
import { amountText, type MainFigure, valueText } from "./wording";

type Props = { figure: MainFigure; within: WithinField; value: unknown; kind: string };

export function Pieces({ figure, within, value, kind }: Props) {
  const most = Math.max(...within.pieces.map((piece) => Math.abs(piece.amount ?? 0)), 1e-12);
  return (
    <figure className="mt-4" aria-label={`within ${within.field}`}>
      <figcaption className="mb-1 text-small">
        <span className="font-semibold">Within {within.field}</span>{" "}
        <span className="text-faint">amber raised the figure, slate-blue lowered it</span>
      </figcaption>
      {kind === "text" && typeof value === "string" ? (
        <MarkedText figure={figure} within={within} text={value} most={most} />
      ) : kind === "image" && typeof value === "string" ? (
        <MarkedPicture figure={figure} within={within} picture={value} most={most} />
      ) : (
        <ul className="flex flex-wrap gap-1">
          {within.pieces.map((piece) => (
            <li key={piece.place.join()} className="rounded-small px-2 font-mono text-small" style={tint(piece.amount, most)}>
              {piece.name} {amountText(figure, piece.amount)}
            </li>
          ))}
        </ul>
      )}
      <table className="sr-only">
        <caption>parts of {within.field}</caption>
        <tbody>
          {within.pieces.map((piece) => (
            <tr key={piece.place.join()}>
              <th scope="row">{piece.name}</th>
              <td>{amountText(figure, piece.amount)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </figure>
  );
}

/** The colour of an amount, the stronger the larger it is. */
function tint(amount: number | null, most: number): { backgroundColor: string } {
  const part = Math.round((70 * Math.abs(amount ?? 0)) / most);
  return { backgroundColor: `color-mix(in srgb, var(${(amount ?? 0) > 0 ? "--amber-fill" : "--slate-fill"}) ${part}%, transparent)` };
}

function MarkedText({ figure, within, text, most }: { figure: MainFigure; within: WithinField; text: string; most: number }) {
  const characters = [...text]; // places count characters, not the units of UTF-16
  return (
    <p className="max-h-56 overflow-auto rounded-small bg-sunk p-3 break-words whitespace-pre-wrap">
      {within.pieces.map((piece, at) => {
        const [start = 0, end = 0] = piece.place;
        const before = at ? (within.pieces[at - 1]?.place[1] ?? 0) : 0;
        return (
          <span key={start}>
            {characters.slice(before, start).join("")}
            <mark className="rounded-small text-ink" style={tint(piece.amount, most)} title={amountText(figure, piece.amount)}>
              {characters.slice(start, end).join("")}
            </mark>
          </span>
        );
      })}
    </p>
  );
}

function MarkedPicture({ figure, within, picture, most }: { figure: MainFigure; within: WithinField; picture: string; most: number }) {
  const width = Math.max(...within.pieces.map((piece) => piece.place[2] ?? 0), 1);
  const height = Math.max(...within.pieces.map((piece) => piece.place[3] ?? 0), 1);
  return (
    <div className="flex gap-4">
      {[false, true].map((marked) => (
        <div key={String(marked)} className="relative h-56" style={{ aspectRatio: `${width} / ${height}` }}>
          <img
            src={`data:${picture.startsWith("/9j/") ? "image/jpeg" : "image/png"};base64,${picture}`}
            alt={marked ? "" : valueText(within.field)}
            className="h-full w-full rounded-small [image-rendering:pixelated]"
          />
          {marked &&
            within.pieces.map((piece) => {
              const [left = 0, top = 0, right = 0, bottom = 0] = piece.place;
              return (
                <span
                  key={piece.place.join()}
                  title={amountText(figure, piece.amount)}
                  className="absolute"
                  style={{
                    left: `${(100 * left) / width}%`,
                    top: `${(100 * top) / height}%`,
                    width: `${(100 * (right - left)) / width}%`,
                    height: `${(100 * (bottom - top)) / height}%`,
                    ...tint(piece.amount, most),
                  }}
                />
              );
            })}
        </div>
      ))}
    </div>
  );
}
