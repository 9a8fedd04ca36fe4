import { Toast } from "radix-ui";
import { useSyncExternalStore } from "react";

interface Note {
  id: number;
  text: string;
  undo: (() => void) | null;
}

const SHOWN_MS = 12_000;
const listeners = new Set<() => void>();
let notes: readonly Note[] = [];
let last = 0;

function set(next: readonly Note[]) {
  notes = next;
  for (const listener of listeners) listener();
}

const drop = (id: number) => set(notes.filter((note) => note.id !== id));

/** Says what was done, with a way to take it back where there is one. */
export function told(text: string, undo: (() => void) | null = null): void {
  last += 1;
  set([...notes, { id: last, text, undo }]);
}

export function Toasts() {
  const shown = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => notes,
  );
  return (
    <Toast.Provider duration={SHOWN_MS} swipeDirection="right" label="Notice">
      {shown.map((note) => (
        <Toast.Root
          key={note.id}
          onOpenChange={(open) => open || drop(note.id)}
          className="flex items-baseline gap-4 border border-ink bg-sheet px-3 py-2"
        >
          <Toast.Description className="flex-1">{note.text}</Toast.Description>
          {note.undo && (
            <Toast.Action altText="Take it back" className="font-semibold underline" onClick={note.undo}>
              Undo
            </Toast.Action>
          )}
          <Toast.Close aria-label="Close the notice" className="size-6">
            ×
          </Toast.Close>
        </Toast.Root>
      ))}
      <Toast.Viewport className="fixed right-4 bottom-4 z-50 flex w-96 flex-col gap-2" />
    </Toast.Provider>
  );
}
