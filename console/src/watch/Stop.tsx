import * as Dialog from "@radix-ui/react-dialog";
import { useState } from "react";
import { call } from "../api/call";
import { Trouble } from "../frame/State";

/** Stops serving an endpoint, after a question. */
export function Stop({ name }: { name: string }) {
  const [error, setError] = useState<Error | null>(null);
  async function stop() {
    setError(null);
    const path = `/manage/endpoints/${encodeURIComponent(name)}/stop`;
    await call(path, { method: "POST", body: "{}" }).catch(setError);
  }
  return (
    <Dialog.Root modal={false}>
      <Dialog.Trigger className="border border-ink px-3 py-0.5 text-sm">Stop</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Content className="fixed top-1/3 left-1/2 w-[min(28rem,92vw)] -translate-x-1/2 border border-ink bg-sheet p-6">
          <Dialog.Title className="text-lg font-semibold">Stop {name}?</Dialog.Title>
          <Dialog.Description className="mt-2">
            New requests are refused until it is started again. Those that run have a minute to end.
            Its spec is kept.
          </Dialog.Description>
          {error && (
            <div className="mt-3">
              <Trouble error={error} />
            </div>
          )}
          <div className="mt-5 flex justify-end gap-3">
            <Dialog.Close className="border border-ink px-4 py-1.5">Cancel</Dialog.Close>
            <button
              type="button"
              onClick={() => void stop()}
              className="bg-ink px-4 py-1.5 text-paper"
            >
              Stop {name}
            </button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
