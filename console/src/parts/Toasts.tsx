// What was just done, for a few seconds in a corner, with the way to undo it.
import { X } from "lucide-react";
import { Toast as Primitive } from "radix-ui";
import { createContext, type ReactNode, useCallback, useContext, useState } from "react";

/** title : what was done. detail : more about it. undo : what undoes it, and the name of the button. */
export type Toast = { title: ReactNode; detail?: ReactNode; undo?: { name: string; run: () => void } };

const LONG_MS = 12_000;
const SHORT_MS = 5_000;
const MOST = 4;
const Context = createContext<(toast: Toast) => void>(() => undefined);

/** A function that shows a toast. */
export const useToast = (): ((toast: Toast) => void) => useContext(Context);

/** Shows the toasts of everything inside it. */
export function Toasts({ children }: { children: ReactNode }) {
  const [shown, setShown] = useState<(Toast & { key: number })[]>([]);
  const show = useCallback((toast: Toast): void => {
    setShown((before) => [...before, { ...toast, key: (before[before.length - 1]?.key ?? 0) + 1 }].slice(-MOST));
  }, []);
  const remove = (key: number): void => setShown((before) => before.filter((one) => one.key !== key));
  return (
    <Primitive.Provider swipeDirection="right" label="What was done">
      <Context.Provider value={show}>{children}</Context.Provider>
      {shown.map(({ key, title, detail, undo }) => (
        <Primitive.Root
          key={key}
          duration={undo ? LONG_MS : SHORT_MS}
          onOpenChange={(open) => !open && remove(key)}
          className="flex items-start gap-4 rounded-card border border-line bg-card p-4 shadow-lg"
        >
          <div className="min-w-0 flex-1">
            <Primitive.Title className="font-semibold break-words">{title}</Primitive.Title>
            {detail && <Primitive.Description className="mt-1 break-words text-soft">{detail}</Primitive.Description>}
          </div>
          {undo && (
            <Primitive.Action altText={undo.name} asChild>
              <button
                type="button"
                className="h-8 shrink-0 rounded-small border border-line px-3 hover:border-slate-fill"
                onClick={undo.run}
              >
                {undo.name}
              </button>
            </Primitive.Action>
          )}
          <Primitive.Close aria-label="close" className="p-1 text-faint hover:text-ink">
            <X size={14} aria-hidden />
          </Primitive.Close>
        </Primitive.Root>
      ))}
      <Primitive.Viewport className="fixed right-4 bottom-4 z-50 flex w-[min(400px,92vw)] flex-col gap-2" />
    </Primitive.Provider>
  );
}
