import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";

interface Props {
  /** The control that asks for it. */
  children: ReactNode;
  title: string;
  /** What cannot be taken back. */
  consequence: string;
  action: string;
  onConfirm: () => void;
}

/** A plain question before what cannot be undone. What can be is done at once, with an undo: see Toasts. */
export function Confirm({ children, title, consequence, action, onConfirm }: Props) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{children}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <AlertDialog.Content className="fixed top-[30%] left-1/2 z-50 w-[420px] -translate-x-1/2 border border-ink bg-sheet p-4">
          <AlertDialog.Title className="mb-1 text-[15px] font-bold">{title}</AlertDialog.Title>
          <AlertDialog.Description className="mb-4">{consequence}</AlertDialog.Description>
          <div className="flex justify-end gap-3">
            <AlertDialog.Cancel className="action">Cancel</AlertDialog.Cancel>
            <AlertDialog.Action className="action action-main" onClick={onConfirm}>
              {action}
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
