import { type ComponentType, lazy } from "react";

/** A page, or a part of one, whose script is loaded when it is first shown, or ahead of that by `load`. */
export type LazyPage<Properties> = ComponentType<Properties> & { load: () => Promise<unknown> };

export function lazyPage<Properties>(load: () => Promise<Record<string, unknown>>, name: string): LazyPage<Properties> {
  const page = lazy(async () => ({ default: (await load())[name] as ComponentType<Properties> }));
  return Object.assign(page, { load }) as unknown as LazyPage<Properties>;
}
