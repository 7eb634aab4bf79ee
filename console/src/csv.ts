// Tables of values as CSV (RFC 4180), to copy or to save.

export type CsvCell = string | number | boolean | null | undefined;

// A spreadsheet takes a text that begins so for a formula and runs it.
const FORMULA = /^[=+\-@\t\r]/;

/** Lines that end with CRLF; cells with commas, quotes or line breaks are quoted. A text that a spreadsheet would run as a formula gets an
 * apostrophe before it; numbers stay numbers. */
export function toCsv(head: string[], rows: CsvCell[][]): string {
  const cell = (value: CsvCell): string => {
    const plain = value === null || value === undefined ? "" : String(value);
    const text = typeof value === "string" && FORMULA.test(plain) && !Number.isFinite(Number(plain)) ? `'${plain}` : plain;
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return [head, ...rows].map((row) => row.map(cell).join(",")).join("\r\n") + "\r\n";
}

/** A title as the name of a file: lower case, words joined by hyphens. */
export const fileName = (title: string): string => title.toLowerCase().replaceAll(/[^a-z0-9]+/g, "-");

/** Save content under a name, as if it had been downloaded. */
export function saveFile(name: string, content: Blob): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
