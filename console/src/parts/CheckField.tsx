// Something that is so or not, to be ticked.
import { Check } from "lucide-react";
import { Checkbox } from "radix-ui";
import { type ReactNode, useId } from "react";

export function CheckField({
  checked,
  onChange,
  children,
  className = "",
}: {
  checked: boolean;
  onChange: (checked: boolean) => void;
  children: ReactNode;
  className?: string;
}) {
  const id = useId();
  return (
    <span className={`flex items-center gap-2 ${className}`}>
      <Checkbox.Root
        id={id}
        checked={checked}
        onCheckedChange={(next) => onChange(next === true)}
        className="flex h-4 w-4 shrink-0 items-center justify-center rounded-small border border-faint bg-card data-[state=checked]:border-slate data-[state=checked]:bg-slate"
      >
        <Checkbox.Indicator>
          <Check size={12} className="text-card" aria-hidden />
        </Checkbox.Indicator>
      </Checkbox.Root>
      <label htmlFor={id}>{children}</label>
    </span>
  );
}
