import { Command } from "cmdk";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { useOverview } from "../api/queries";
import { toggleTheme } from "../theme";

const VIEWS = ["traffic", "drift", "outcomes", "calls"];

/** Jump anywhere from the keyboard: `/` opens it, typing narrows it, Enter goes. */
export function Palette({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const [typed, setTyped] = useState("");
  // the service finds by the first word, which is a part of a name; what follows may be the beginning of a view's
  const endpoints = useOverview(open ? typed.trim().split(/\s+/)[0] : "").data?.shown ?? [];
  const navigate = useNavigate();

  useEffect(() => {
    function onKey(event: KeyboardEvent): void {
      const typing = event.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName);
      if (event.key === "/" && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        onOpenChange(true);
      }
    }
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [onOpenChange]);

  const places = [
    { name: "Endpoints", kind: "page", go: () => navigate("/") },
    { name: "Alerts", kind: "page", go: () => navigate("/alerts") },
    { name: "Models", kind: "page", go: () => navigate("/models") },
    { name: "Bulk runs", kind: "page", go: () => navigate("/bulk") },
    { name: "Lanes", kind: "page", go: () => navigate("/lanes") },
    { name: "Outposts", kind: "page", go: () => navigate("/outposts") },
    { name: "Sweeps", kind: "page", go: () => navigate("/sweeps") },
    { name: "Reviews", kind: "page", go: () => navigate("/reviews") },
    { name: "Trail", kind: "page", go: () => navigate("/trail") },
    { name: "Logs", kind: "page", go: () => navigate("/logs") },
    { name: "Declared", kind: "page", go: () => navigate("/declared") },
    { name: "Interface", kind: "page", go: () => navigate("/docs") },
    { name: "Tokens", kind: "page", go: () => navigate("/tokens") },
    ...endpoints.map((one) => ({ name: one.name, kind: `serves ${one.version}`, go: () => navigate(`/endpoints/${one.name}`) })),
    ...(typed.trim().includes(" ")
      ? endpoints.flatMap((one) =>
          VIEWS.map((view) => ({ name: `${one.name} ${view}`, kind: "view", go: () => navigate(`/endpoints/${one.name}/${view}`) })),
        )
      : []),
    ...(/^[0-9a-f]{8}-[0-9a-f-]{27}$/.test(typed.trim())
      ? [{ name: typed.trim(), kind: "call", go: () => navigate(`/calls/${typed.trim()}`) }]
      : []),
    { name: "Day or night", kind: "colours", go: toggleTheme },
  ].filter((place) => `${place.name} ${place.kind}`.toLowerCase().includes(typed.trim().toLowerCase()));

  function change(next: boolean): void {
    setTyped("");
    onOpenChange(next);
  }

  return (
    <Dialog.Root open={open} onOpenChange={change}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-[rgb(10_14_19/0.45)]" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[16vh] left-1/2 z-40 w-[min(480px,92vw)] -translate-x-1/2 overflow-hidden rounded-card border border-line bg-card shadow-xl"
        >
          <Dialog.Title className="sr-only">Go to</Dialog.Title>
          {/* what is found was filtered already: endpoints by the service, pages above */}
          <Command shouldFilter={false} label="Go to" loop>
            <Command.Input
              className="h-12 w-full bg-transparent px-4 text-lead outline-none"
              placeholder="Go to an endpoint or a page"
              aria-label="go to"
              value={typed}
              onValueChange={setTyped}
            />
            <Command.List aria-label="places" className="max-h-80 overflow-y-auto border-t border-line p-2">
              <Command.Empty className="px-2 py-1 text-soft">Nothing of that name.</Command.Empty>
              {places.map((place) => (
                <Command.Item
                  key={`${place.name} ${place.kind}`}
                  value={`${place.name} ${place.kind}`}
                  className="flex h-8 cursor-pointer items-center justify-between rounded-small px-2 data-[selected=true]:bg-sunk"
                  onSelect={() => {
                    void place.go();
                    change(false);
                  }}
                >
                  <span>{place.name}</span>
                  <span className="font-mono text-small text-faint">{place.kind}</span>
                </Command.Item>
              ))}
            </Command.List>
          </Command>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
