import { type ComponentType, lazy } from "react";

/** A page, or a part of one, whose script is loaded when it is first shown. */
export function lazyPage<Properties>(load: () => Promise<Record<string, unknown>>, name: string): ComponentType<Properties> {
  return lazy(async () => ({ default: (await load())[name] as ComponentType<Properties> })) as ComponentType<Properties>;
}
