// One of several values, in a list that opens.
import { Check, ChevronDown } from "lucide-react";
import { Select } from "radix-ui";
import type { AriaAttributes } from "react";

export type SelectOption = { value: string; text?: string; note?: string };
/** A Radix select takes no empty value, which stands for "none of them" here. */
const NONE = "\u0000none";

/** label : the name for screen readers; leave it out inside a `Labelled`, and give its id. */
export function SelectMenu({
  id,
  label,
  value,
  options,
  onChange,
  className = "",
  disabled = false,
  placeholder,
  ...aria
}: {
  id?: string;
  label?: string;
  value: string;
  options: SelectOption[];
  onChange: (value: string) => void;
  className?: string;
  disabled?: boolean;
  placeholder?: string;
} & AriaAttributes) {
  return (
    <Select.Root
      value={value || (options.some((option) => !option.value) ? NONE : "")}
      onValueChange={(chosen) => onChange(chosen === NONE ? "" : chosen)}
      disabled={disabled}
    >
      <Select.Trigger
        {...aria}
        id={id}
        aria-label={label}
        className={`control flex items-center justify-between gap-2 text-left ${className}`}
      >
        <span className="truncate">
          <Select.Value placeholder={placeholder} />
        </span>
        <Select.Icon asChild>
          <ChevronDown size={14} className="shrink-0 text-faint" aria-hidden />
        </Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-50 max-h-80 min-w-(--radix-select-trigger-width) overflow-hidden rounded-small border border-line bg-card shadow-lg"
        >
          <Select.Viewport className="p-1">
            {options.map((option) => (
              <Select.Item
                key={option.value}
                value={option.value || NONE}
                className="flex h-8 cursor-pointer items-center justify-between gap-6 rounded-small px-2 font-mono outline-none select-none data-[highlighted]:bg-sunk"
              >
                <span>
                  <Select.ItemText>{option.text ?? option.value}</Select.ItemText>
                  {option.note && <span className="ml-2 font-sans text-small text-faint">{option.note}</span>}
                </span>
                <Select.ItemIndicator>
                  <Check size={14} aria-hidden />
                </Select.ItemIndicator>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
