import { ImageUp } from "lucide-react";
import { type DragEvent, useRef, useState } from "react";
import type { Entry } from "../form";
import { bytes } from "../words";

type Props = {
  field: { name: string };
  entry: Entry;
  onChange: (entry: Entry) => void;
  onFile?: (name: string) => void;
  id: string;
  "aria-invalid": boolean;
  "aria-describedby": string;
};

/** A picture: dropped here or chosen, shown as it will be sent. */
export function PictureInput({ field, entry, onChange, onFile, id, ...aria }: Props) {
  const [over, setOver] = useState(false);
  const [name, setName] = useState<string | null>(null);
  const [size, setSize] = useState<string | null>(null);
  const picker = useRef<HTMLInputElement>(null);
  const address = entry === null ? null : `data:${entry.startsWith("/9j/") ? "image/jpeg" : "image/png"};base64,${entry}`;

  async function take(file: File | undefined): Promise<void> {
    if (!file) return;
    const data = new Uint8Array(await file.arrayBuffer());
    let text = "";
    for (let at = 0; at < data.length; at += 0x8000) text += String.fromCharCode(...data.subarray(at, at + 0x8000));
    setName(file.name);
    setSize(null);
    onFile?.(file.name);
    onChange(btoa(text));
  }

  function drop(event: DragEvent): void {
    event.preventDefault();
    setOver(false);
    void take(event.dataTransfer.files[0]);
  }

  return (
    <div
      className={`flex items-center gap-4 rounded-small border border-dashed p-2 ${over ? "border-slate bg-sunk" : aria["aria-invalid"] ? "border-brick" : "border-line"}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <div className="flex size-24 shrink-0 items-center justify-center rounded-small bg-sunk">
        {address ? (
          <img
            key={address.length}
            src={address}
            alt={`what was chosen for ${field.name}`}
            className="size-24 rounded-small object-contain [image-rendering:pixelated]"
            onLoad={(event) => setSize(`${event.currentTarget.naturalWidth}×${event.currentTarget.naturalHeight}`)}
            onError={() => setSize("no picture that a browser can show")}
          />
        ) : (
          <span className="text-small text-faint">missing</span>
        )}
      </div>
      <div className="min-w-0">
        <button
          {...aria}
          id={id}
          type="button"
          className="inline-flex h-8 items-center gap-2 rounded-small border border-line bg-card px-3 hover:border-slate-fill"
          onClick={() => picker.current?.click()}
        >
          <ImageUp size={15} aria-hidden /> Choose a picture
        </button>
        <input
          ref={picker}
          type="file"
          accept="image/png,image/jpeg"
          className="sr-only"
          tabIndex={-1}
          aria-label={`file for ${field.name}`}
          onChange={(event) => void take(event.target.files?.[0])}
        />
        <p className="mt-2 truncate text-small text-faint">
          {entry === null
            ? "or drop one here"
            : [name ?? "the schema’s example", size, bytes(Math.floor((entry.length * 3) / 4))].filter(Boolean).join(", ")}
          {address && !name && (
            <>
              {" · "}
              <a className="underline hover:text-ink" href={address} download={`${field.name}.png`}>
                save it
              </a>
            </>
          )}
        </p>
      </div>
    </div>
  );
}
