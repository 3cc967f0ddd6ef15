import type { Options } from "./options";

const FIELDS = [
  ["temperature", "Temperature", "default"],
  ["top_p", "Top p", "default"],
  ["max_tokens", "Max tokens", "no limit"],
  ["seed", "Seed", "random"],
  ["stop", "Stop at", "none"],
] as const;

export const FIELD = "border border-ink/60 bg-paper px-2 py-1";

/** What can be set of one request: the model, what it is told before, and how it chooses. */
export function Fields({
  models,
  model,
  setModel,
  options,
  setOptions,
  prefix = "",
  plain = false,
}: {
  models: string[];
  model: string;
  setModel: (model: string) => void;
  options: Options;
  setOptions: (options: Options) => void;
  /** Tells the fields of one pane from those of the other. */
  prefix?: string;
  /** Whether a text is continued, to which nothing is said before. */
  plain?: boolean;
}) {
  return (
    <>
      {models.length > 1 && (
        <label className="text-sm">
          Model
          <select
            value={model}
            onChange={(event) => setModel(event.target.value)}
            className={`ml-2 font-mono ${FIELD}`}
          >
            {models.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      )}
      {!plain && (
        <label className="flex flex-col gap-1 text-sm">
          System prompt
          <textarea
            name={`${prefix}system`}
            rows={1}
            value={options.system}
            onChange={(event) => setOptions({ ...options, system: event.target.value })}
            className={`${FIELD} text-base`}
          />
        </label>
      )}
      <div className="flex flex-wrap gap-3">
        {FIELDS.map(([name, label, usual]) => (
          <label key={name} className="flex flex-col text-sm">
            {label}
            <input
              name={`${prefix}${name}`}
              value={options[name]}
              placeholder={usual}
              inputMode={name === "stop" ? "text" : "decimal"}
              onChange={(event) => setOptions({ ...options, [name]: event.target.value })}
              className={`${FIELD} w-28 font-mono`}
            />
          </label>
        ))}
        <label className="flex items-end gap-2 pb-1 text-sm">
          <input
            name={`${prefix}stream`}
            type="checkbox"
            checked={options.stream}
            onChange={(event) => setOptions({ ...options, stream: event.target.checked })}
          />
          token by token
        </label>
      </div>
    </>
  );
}
