// The one control of time: which span, in which zone, and whether the page follows what happens.
import { Switch } from "radix-ui";
import { useEffect, useId } from "react";
import { useSearchParams } from "react-router";
import { Segments } from "../parts/basics";
import { Tip } from "../parts/Tip";
import { when } from "../words";
import type { PageSpan } from "./usePageSpan";
import { setZone, useZone, type Zone } from "./zone";

/** span : what the page looks at. */
export function TimeControl({ span }: { span: PageSpan }) {
  const { fixed } = span;
  const id = useId();
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1" role="group" aria-label="time">
      {fixed && (
        <span className="text-small text-soft">
          {when(fixed.since)} to {when(fixed.until)}
        </span>
      )}
      {span.names.length > 0 && <Segments label="span" all={span.names} chosen={fixed ? null : span.name} onChoose={span.setName} />}
      <ZoneButton />
      <Tip text={fixed ? "Follow what happens from now on." : "Hold what is shown now fast. The address then shows it to others as it is."}>
        <span className="flex items-center gap-2 text-small text-soft">
          <Switch.Root
            id={id}
            checked={!fixed}
            onCheckedChange={(live) => (live ? span.setFixed(null) : span.hold())}
            className="h-4 w-7 rounded-full bg-line data-[state=checked]:bg-amber-fill"
          >
            <Switch.Thumb className="block h-3 w-3 translate-x-0.5 rounded-full bg-card transition-transform data-[state=checked]:translate-x-3.5" />
          </Switch.Root>
          <label htmlFor={id} className="cursor-pointer">
            live
          </label>
        </span>
      </Tip>
    </div>
  );
}

const NAMES = { local: "local time", UTC: "UTC" } as const satisfies Record<Zone, string>;
const OTHER = { local: "UTC", UTC: "local" } as const satisfies Record<Zone, Zone>;

function ZoneButton() {
  const zone = useZone();
  const [params, setParams] = useSearchParams();
  const asked = params.get("zone");
  useEffect(() => {
    if (asked) setZone(asked === "utc" ? "UTC" : "local");
  }, [asked]);
  return (
    <Tip text={`Times are shown in ${NAMES[zone]}; press for ${NAMES[OTHER[zone]]}.`}>
      <button
        type="button"
        className="text-small text-soft underline decoration-dotted underline-offset-4 hover:text-ink"
        onClick={() => {
          setZone(OTHER[zone]);
          setParams(
            (before) => {
              before.set("zone", OTHER[zone] === "UTC" ? "utc" : "local");
              return before;
            },
            { replace: true },
          );
        }}
      >
        {NAMES[zone]}
      </button>
    </Tip>
  );
}
