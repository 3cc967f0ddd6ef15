import Papa from "papaparse";
import type { RecordedCall } from "../api/types";

/** Calls as a table with a header; texts with signs of their own are quoted, and no text is a formula to a spreadsheet. */
export function csv(calls: RecordedCall[]): string {
  return Papa.unparse(calls, { newline: "\n", escapeFormulae: /^[=+\-@\t\r]/ }) + "\n";
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
