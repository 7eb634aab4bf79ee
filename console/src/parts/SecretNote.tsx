import type { ReactNode } from "react";
import { CopyButton, Mono } from "./basics";

/** A secret to copy now or never. */
export const SecretNote = ({ secret, children }: { secret: string; children: ReactNode }) => (
  <div className="mt-3 rounded-small border border-amber bg-amber-wash p-3" role="status">
    <p>{children}</p>
    <p className="mt-1 flex items-baseline gap-3">
      <Mono className="break-all">{secret}</Mono>
      <CopyButton text={secret} />
    </p>
  </div>
);
