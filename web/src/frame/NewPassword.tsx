import { useMutation } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { client, take } from "../api/client";
import { Refused } from "../shared/Refused";
import { told } from "../shared/Toasts";

/** Changes the password of who is signed in. */
export function NewPassword({ close }: { close: () => void }) {
  const [current, setCurrent] = useState("");
  const [wanted, setWanted] = useState("");
  const change = useMutation({
    mutationFn: () => take(client.POST("/api/session/password", { body: { current, new: wanted } })),
    onSuccess: () => {
      close();
      told("Your password was changed; your other sessions have ended.");
    },
  });
  const field = (label: string, value: string, set: (value: string) => void, kind: string) => (
    <label className="mb-3 block">
      <span className="text-second">{label}</span>
      <input
        className="field w-full"
        type="password"
        autoComplete={kind}
        required
        value={value}
        onChange={(event) => set(event.target.value)}
      />
    </label>
  );
  return (
    <Dialog.Root open onOpenChange={(open) => open || close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content className="fixed top-[20%] left-1/2 z-50 w-[420px] -translate-x-1/2 border border-ink bg-sheet p-4">
          <Dialog.Title className="mb-1 text-[15px] font-bold">Change your password</Dialog.Title>
          <Dialog.Description className="mb-3 text-second">
            At least 12 characters, of any kind; none of the common ones. A few words that do not belong together are
            good.
          </Dialog.Description>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              change.mutate();
            }}
          >
            {field("Current password", current, setCurrent, "current-password")}
            {field("New password", wanted, setWanted, "new-password")}
            <Refused error={change.error} />
            <div className="flex justify-end gap-3">
              <Dialog.Close className="action">Cancel</Dialog.Close>
              <button type="submit" className="action action-main" disabled={change.isPending}>
                Change it
              </button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
