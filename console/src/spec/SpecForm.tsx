import type { Schema, Schemas } from "../editor/schema";
import { fieldsOf, shown, valuesOf, withValue, type Field } from "./values";

const INPUT = "h-8 w-full border border-ink/60 bg-paper px-2";

/** A spec as a form: a field for each key of the schema. */
export function SpecForm({
  text,
  schema,
  onChange,
}: {
  text: string;
  schema: Schema & { $defs?: Schemas };
  onChange: (text: string) => void;
}) {
  const read = valuesOf(text);
  if ("why" in read)
    return (
      <p role="alert" className="border-l-4 border-red px-3 py-2">
        The text is not TOML, so there is no form of it: {read.why}.
      </p>
    );
  const { values } = read;
  const fields = fieldsOf(schema, schema.$defs ?? {});
  const tables = [...new Set(fields.map(({ table }) => table))];
  return (
    <div className="flex flex-col gap-4">
      {tables.map((table) => (
        <fieldset key={table} className="border-t border-line pt-2">
          {table !== "" && <legend className="pr-2 font-mono text-sm">{table}</legend>}
          <div className="grid gap-x-4 gap-y-2 sm:grid-cols-2">
            {fields
              .filter((field) => field.table === table)
              .map((field) => (
                <Row
                  key={field.key}
                  field={field}
                  value={shown(values, field)}
                  onChange={(written) => onChange(withValue(values, field, written))}
                />
              ))}
          </div>
        </fieldset>
      ))}
      <p className="text-sm text-faint">Comments in the text are lost when a field is changed.</p>
    </div>
  );
}

function Row({
  field,
  value,
  onChange,
}: {
  field: Field;
  value: string;
  onChange: (written: string) => void;
}) {
  const name = field.table === "" ? field.key : `${field.table}.${field.key}`;
  const choices = field.kind === "truth" ? ["true", "false"] : field.choices;
  return (
    <label className="flex flex-col text-sm">
      <span className="font-mono">{field.key}</span>
      {choices.length > 0 ? (
        <select
          name={name}
          value={value}
          onChange={(event) => onChange(event.target.value)}
          className={INPUT}
        >
          <option value="">not said</option>
          {choices.map((choice) => (
            <option key={choice} value={choice}>
              {choice}
            </option>
          ))}
        </select>
      ) : (
        // Read when it is left, so that a number can be half written.
        <input
          key={value}
          name={name}
          defaultValue={value}
          inputMode={field.kind === "number" ? "decimal" : "text"}
          onBlur={(event) => event.target.value !== value && onChange(event.target.value)}
          className={INPUT}
        />
      )}
      <span className="mt-0.5 text-faint">{field.meaning.replaceAll("`", "")}</span>
    </label>
  );
}
