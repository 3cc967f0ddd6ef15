import * as Dialog from "@radix-ui/react-dialog";
import { useRef, useState, type ReactNode } from "react";
import { Trouble } from "./State";

/** A button that asks before it does something. */
export function Confirm({
  name,
  title,
  action,
  destroys = false,
  act,
  children,
}: {
  /** What the button says. */
  name: string;
  title: string;
  /** What the button says that does it. */
  action: string;
  /** Whether something is gone for good. */
  destroys?: boolean;
  act: () => Promise<void>;
  /** What will happen. */
  children: ReactNode;
}) {
  const [trouble, setTrouble] = useState<Error | null>(null);
  const [busy, setBusy] = useState(false);
  // The button is drawn disabled a moment after it was pressed.
  const underWay = useRef(false);
  async function confirmed() {
    if (underWay.current) return;
    underWay.current = true;
    setTrouble(null);
    setBusy(true);
    await act().catch(setTrouble);
    setBusy(false);
    underWay.current = false;
  }
  // A modal one would lock the page's scrolling by a style that its content security policy refuses.
  return (
    <Dialog.Root modal={false}>
      <Dialog.Trigger
        className={`border px-3 py-0.5 text-sm ${destroys ? "border-red text-red" : "border-ink"}`}
      >
        {name}
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Content className="fixed top-1/3 left-1/2 w-[min(28rem,92vw)] -translate-x-1/2 border border-ink bg-sheet p-6">
          <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
          <Dialog.Description className="mt-2">{children}</Dialog.Description>
          {trouble && <Trouble error={trouble} />}
          <div className="mt-5 flex justify-end gap-3">
            <Dialog.Close className="border border-ink px-4 py-1.5">Cancel</Dialog.Close>
            <button
              type="button"
              disabled={busy}
              onClick={() => void confirmed()}
              className={`px-4 py-1.5 font-medium text-paper disabled:opacity-50 ${destroys ? "bg-red" : "bg-ink"}`}
            >
              {action}
            </button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
