// What is given in a form: its label, its control, and a line on what it means.
import type { ReactNode } from "react";

export const Given = ({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) => (
  <label className="grid content-start gap-1 text-small text-soft">
    {label}
    {children}
    {hint && <span className="text-faint">{hint}</span>}
  </label>
);
