import type { RecordedCall } from "../api/types";

/** Calls as a table with a header; texts with signs of their own are quoted, and no text is a formula to a spreadsheet. */
export function csv(calls: RecordedCall[]): string {
  const names = Object.keys(calls[0] ?? {}) as (keyof RecordedCall)[];
  const cell = (value: unknown) => {
    if (value === null || value === undefined) return "";
    const is = String(value);
    const text = typeof value === "string" && /^[=+\-@\t\r]/.test(is) ? `'${is}` : is;
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return (
    [names.join(","), ...calls.map((call) => names.map((name) => cell(call[name])).join(","))].join(
      "\n",
    ) + "\n"
  );
}

/** Calls as one JSON object a line. */
export function jsonLines(calls: RecordedCall[]): string {
  return calls.map((call) => JSON.stringify(call) + "\n").join("");
}

/** Lets the browser save a text as a file. */
export function save(name: string, type: string, text: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
