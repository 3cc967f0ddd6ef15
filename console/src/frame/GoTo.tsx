import * as Dialog from "@radix-ui/react-dialog";
import { useQueries } from "@tanstack/react-query";
import { useEffect, useId, useState } from "react";
import { useNavigate } from "react-router";
import { call } from "../api/call";
import type { EndpointDetail, RecordedCall } from "../api/types";
import { useLive } from "../api/useLive";
import { found, places } from "./places";

/** Endpoints whose releases can be gone to, at most. */
const MOST_ENDPOINTS = 20;

/** A field that goes to any page, endpoint, release or request by its name; Ctrl-K opens it. */
export function GoTo() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "k") return;
      event.preventDefault();
      setOpen((before) => !before);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  // A modal one would lock the page's scrolling by a style that its content security policy refuses.
  return (
    <Dialog.Root modal={false} open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="border border-ink/60 px-2 py-0.5 text-sm">
        Go to… <kbd className="font-mono text-xs text-faint">Ctrl K</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-24 left-1/2 z-10 w-[min(34rem,92vw)] -translate-x-1/2 border border-ink bg-sheet p-4"
        >
          <Dialog.Title className="sr-only">Go to</Dialog.Title>
          <Choice onChosen={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Choice({ onChosen }: { onChosen: () => void }) {
  const { status } = useLive();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const id = useId();
  const names = (status?.endpoints ?? []).slice(0, MOST_ENDPOINTS).map(({ name }) => name);
  const answers = useQueries({
    queries: [
      "/manage/requests?most=50",
      ...names.map((name) => `/manage/endpoints/${encodeURIComponent(name)}`),
    ].map((path) => ({ queryKey: [path], queryFn: () => call<unknown>(path) })),
  });
  const [calls, ...details] = answers.map(({ data }) => data);
  const known = places(
    status,
    details.filter(Boolean) as EndpointDetail[],
    (calls ?? []) as RecordedCall[],
  );
  const shown = found(known, text);
  const chosen = Math.min(at, shown.length - 1);
  const go = (to: string) => {
    void navigate(to);
    onChosen();
  };
  const keys: Record<string, () => void> = {
    ArrowDown: () => setAt(Math.min(chosen + 1, shown.length - 1)),
    ArrowUp: () => setAt(Math.max(chosen - 1, 0)),
    Enter: () => shown[chosen] && go(shown[chosen].to),
  };
  return (
    <>
      <input
        autoFocus
        role="combobox"
        aria-expanded="true"
        aria-controls={id}
        aria-activedescendant={shown.length > 0 ? `${id}-${chosen}` : undefined}
        aria-label="Name of a page, an endpoint, a release or a request"
        placeholder="A page, an endpoint, a release or a request"
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        onKeyDown={(event) => {
          const act = keys[event.key];
          if (!act) return;
          event.preventDefault();
          act();
        }}
        className="w-full border border-ink/60 bg-paper px-2 py-1"
      />
      <ul role="listbox" id={id} aria-label="Places" className="mt-2 max-h-80 overflow-y-auto">
        {shown.map(({ kind, name, note, to }, place) => (
          <li
            key={`${kind} ${name}`}
            id={`${id}-${place}`}
            role="option"
            aria-selected={place === chosen}
            onClick={() => go(to)}
            className={`flex cursor-pointer gap-3 px-2 py-1 ${place === chosen ? "bg-ink text-paper" : "hover:bg-shoal"}`}
          >
            <span className="w-16 text-sm opacity-70">{kind}</span>
            <span className="truncate">{name}</span>
            <span className="ml-auto truncate text-sm opacity-70">{note}</span>
          </li>
        ))}
      </ul>
      {shown.length === 0 && <p className="mt-2 text-sm text-faint">Nothing is called so.</p>}
    </>
  );
}
