// A question before something is done: what it will change, how it is undone, and the command that does the same.
import type { UseMutationResult } from "@tanstack/react-query";
import { AlertDialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Button, Mono, Trouble } from "./basics";

type Props = {
  /** The button that opens it. */
  trigger: ReactNode;
  title: string;
  children: ReactNode;
  command?: string;
  /** What the button that does it is called, and what it is called while it is done. */
  confirm: string;
  confirming?: string;
  leave?: string;
  danger?: boolean;
  /** Does it; the dialog closes when it succeeds, and shows its error when it fails. */
  change: Pick<UseMutationResult<unknown, Error, void>, "isPending" | "error" | "reset" | "mutateAsync">;
  /** A fault of something else that the question needs. */
  error?: Error | null;
  onOpen?: () => void;
};

export function ConfirmDialog(props: Props) {
  const [open, setOpen] = useState(false);
  const { change: asked } = props;
  const pending = asked.isPending;
  const error = asked.error ?? props.error;
  function change(next: boolean): void {
    if (pending) return;
    if (next) {
      asked.reset();
      props.onOpen?.();
    }
    setOpen(next);
  }
  return (
    <AlertDialog.Root open={open} onOpenChange={change}>
      <AlertDialog.Trigger asChild>{props.trigger}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-[rgb(10_14_19/0.45)]" />
        <AlertDialog.Content className="fixed top-[20vh] left-1/2 z-40 max-h-[72vh] w-[min(520px,94vw)] -translate-x-1/2 overflow-y-auto rounded-card border border-line bg-card p-6 shadow-xl">
          <AlertDialog.Title className="text-lead font-semibold break-words">{props.title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2 break-words text-soft">{props.children}</div>
          </AlertDialog.Description>
          {props.command && (
            <p className="mt-2 text-small text-faint">
              The same by command: <Mono>{props.command}</Mono>
            </p>
          )}
          {error && (
            <div className="mt-3">
              <Trouble error={error} />
            </div>
          )}
          <div className="mt-5 flex justify-end gap-3">
            <AlertDialog.Cancel asChild>
              <Button>{props.leave ?? "Leave it"}</Button>
            </AlertDialog.Cancel>
            <Button
              kind={props.danger ? "danger" : "main"}
              disabled={pending}
              onClick={() =>
                void asked.mutateAsync().then(
                  () => setOpen(false),
                  () => undefined,
                )
              }
            >
              {pending ? (props.confirming ?? `${props.confirm} …`) : props.confirm}
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
