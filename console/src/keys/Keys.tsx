import { Copy } from "../frame/Copy";
import { useState, type FormEvent } from "react";
import { call } from "../api/call";
import type { KeyEntry, MadeKey, NewKey } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { Confirm } from "../frame/Confirm";
import { Empty, Trouble } from "../frame/State";
import { ago } from "../numbers";

const DAY = 24 * 3600;
const LIVES = [
  ["never", 0],
  ["in a day", DAY],
  ["in 30 days", 30 * DAY],
  ["in a year", 365 * DAY],
] as const;

/** Who can call, who did, until when? */
export function Keys() {
  const { value: keys, error, again } = useAnswer<KeyEntry[]>("/manage/keys");
  const [made, setMade] = useState<MadeKey | null>(null);
  return (
    <div className="flex flex-col gap-5">
      <h2 className="text-lg font-semibold">Keys</h2>
      <NewKeyForm
        onMade={(key) => {
          setMade(key);
          again();
        }}
      />
      {made && <Shown made={made} onDone={() => setMade(null)} />}
      {error && <Trouble error={error} again={again} />}
      {!keys && !error && <Empty>Loading…</Empty>}
      {keys?.length === 0 && (
        <Empty>
          No keys yet. On loopback, keys are optional unless the service was started with
          --require-key.
        </Empty>
      )}
      {keys && keys.length > 0 && <Table keys={keys} again={again} />}
    </div>
  );
}

function NewKeyForm({ onMade }: { onMade: (key: MadeKey) => void }) {
  const [trouble, setTrouble] = useState<Error | null>(null);
  async function submit(event: FormEvent<HTMLFormElement>) {
    event.preventDefault();
    const form = event.currentTarget;
    const data = new FormData(form);
    const number = (name: string) => Number(data.get(name)) || undefined;
    const wanted: NewKey = {
      name: String(data.get("name")),
      scope: data.get("scope") === "manage" ? "manage" : "use",
      expires_in: number("life"),
      per_minute: number("per_minute"),
      at_once: number("at_once"),
      weight: number("weight"),
      endpoints: String(data.get("endpoints"))
        .split(/[\s,]+/)
        .filter((name) => name !== ""),
    };
    try {
      onMade(await call<MadeKey>("/manage/keys", { method: "POST", body: JSON.stringify(wanted) }));
      form.reset();
      setTrouble(null);
    } catch (error) {
      setTrouble(error as Error);
    }
  }
  const field = "border border-ink/60 bg-paper h-8 px-2";
  const number = (
    name: string,
    label: string,
    placeholder: string,
    width: string,
    more: { max?: number; title?: string } = {},
  ) => (
    <label className="flex flex-col text-sm">
      {label}
      <input
        name={name}
        type="number"
        min="1"
        placeholder={placeholder}
        className={`${field} ${width}`}
        {...more}
      />
    </label>
  );
  return (
    <form
      onSubmit={submit}
      className="flex flex-wrap items-end gap-x-4 gap-y-3 border border-line bg-sheet p-4"
    >
      <label className="flex flex-col text-sm">
        Name
        <input name="name" required maxLength={80} className={`${field} w-48`} />
      </label>
      <label className="flex flex-col text-sm">
        Scope
        <select name="scope" className={field}>
          <option value="use">use: call models</option>
          <option value="manage">manage: call models and manage the service</option>
        </select>
      </label>
      <label className="flex flex-col text-sm">
        Expires
        <select name="life" className={field}>
          {LIVES.map(([name, seconds]) => (
            <option key={name} value={seconds}>
              {name}
            </option>
          ))}
        </select>
      </label>
      {number("per_minute", "Calls per minute", "no limit", "w-28")}
      {number("at_once", "Concurrent calls", "no limit", "w-28")}
      {number("weight", "Weight", "1", "w-20", {
        max: 100,
        title: "Share of the lanes compared to other keys while calls of several keys wait",
      })}
      <label className="flex flex-col text-sm">
        Endpoints
        <input name="endpoints" placeholder="all" className={`${field} w-48`} />
      </label>
      <button type="submit" className="bg-ink px-5 py-1.5 font-medium text-paper">
        Create
      </button>
      {trouble && <Trouble error={trouble} />}
    </form>
  );
}

/** The only time that a key is shown. */
function Shown({ made, onDone }: { made: MadeKey; onDone: () => void }) {
  return (
    <div
      role="status"
      className="flex flex-wrap items-center gap-x-4 gap-y-2 border-l-4 border-lamp bg-sheet px-4 py-3"
    >
      <p>
        New key <b>{made.entry.name}</b>. Copy it now: it will not be shown again.
      </p>
      <code data-key className="bg-shoal px-2 py-1 font-mono text-sm break-all">
        {made.key}
      </code>
      <Copy text={made.key} label="Copy the key" />
      <button type="button" onClick={onDone} className="border border-ink px-3 py-1">
        I have copied it
      </button>
    </div>
  );
}

function Table({ keys, again }: { keys: KeyEntry[]; again: () => void }) {
  const now = Date.now();
  const since = (at: number | null | undefined) => (at ? `${ago((now - at) / 1000)} ago` : "never");
  const ends = (key: KeyEntry) => {
    if (!key.expires_ms) return "never";
    return key.expires_ms > now
      ? `in ${ago((key.expires_ms - now) / 1000)}`
      : since(key.expires_ms);
  };
  const heads = [
    "name",
    "id",
    "scope",
    "state",
    "created",
    "expires",
    "last used",
    "per minute",
    "concurrent",
    "weight",
    "endpoints",
    "",
  ];
  return (
    <div className="relative overflow-x-auto border border-line bg-sheet">
      <table className="w-full border-collapse text-sm">
        <thead>
          <tr className="border-b border-ink/60 text-left">
            {heads.map((head) => (
              <th key={head} scope="col" className="px-3 py-2 font-medium">
                {head || <span className="sr-only">revoke</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {keys.map((key) => (
            <tr key={key.id} className="border-b border-line whitespace-nowrap">
              <td className="px-3 py-1.5">{key.name}</td>
              <td className="px-3 py-1.5 font-mono">{key.id}</td>
              <td className="px-3 py-1.5">{key.scope}</td>
              <td className="px-3 py-1.5">
                {key.state === "valid" ? "▲ valid" : `✕ ${key.state}`}
              </td>
              <td className="px-3 py-1.5">{since(key.created_ms)}</td>
              <td className="px-3 py-1.5">{ends(key)}</td>
              <td className="px-3 py-1.5">{since(key.used_ms)}</td>
              <td className="px-3 py-1.5 font-mono">{key.per_minute ?? "–"}</td>
              <td className="px-3 py-1.5 font-mono">{key.at_once ?? "–"}</td>
              <td className="px-3 py-1.5 font-mono">{key.weight}</td>
              <td className="px-3 py-1.5">{key.endpoints?.join(", ") || "all"}</td>
              <td className="px-3 py-1.5 text-right">
                {key.state === "valid" && <Revoke entry={key} again={again} />}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Revoke({ entry, again }: { entry: KeyEntry; again: () => void }) {
  async function revoke() {
    await call(`/manage/keys/${entry.id}`, { method: "DELETE" });
    again();
  }
  return (
    <Confirm
      name="Revoke"
      title={`Revoke key ${entry.name}?`}
      action="Revoke"
      destroys
      act={revoke}
    >
      Calls with key <code className="font-mono">{entry.id}</code> will be refused immediately. This
      cannot be undone.
    </Confirm>
  );
}
