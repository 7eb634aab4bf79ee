// Colours of the present theme as a canvas needs them.

/** The value of a colour that is named as var(--name). */
export function colourOf(name: string): string {
  const variable = /^var\((--[a-z-]+)\)$/.exec(name)?.[1];
  return variable ? getComputedStyle(document.documentElement).getPropertyValue(variable).trim() : name;
}

/** The same with an opacity from 0 to 1. */
export function withOpacity(name: string, opacity: number): string {
  const hex = Math.round(255 * opacity)
    .toString(16)
    .padStart(2, "0");
  return `${colourOf(name)}${hex}`;
}

/** The font of everything that is written on a canvas. */
export const FONT = "11px 'Inter Variable', system-ui, sans-serif";
