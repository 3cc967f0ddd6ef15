/** A page of the console: its part of the address, and its name. */
export type Page = readonly [path: string, name: string];

/** The pages by what people do there. */
export const GROUPS: readonly (readonly [group: string, pages: readonly Page[]])[] = [
  [
    "Run",
    [
      ["watch", "Watch"],
      ["strip", "Batch strip"],
      ["devices", "Devices"],
      ["jobs", "Jobs"],
    ],
  ],
  [
    "Models",
    [
      ["fit", "Fit"],
      ["deploy", "Deploy"],
      ["try", "Try"],
    ],
  ],
  [
    "Measure",
    [
      ["load", "Load"],
      ["requests", "Requests"],
    ],
  ],
  ["Access", [["keys", "Keys"]]],
];

export const PAGES: readonly Page[] = GROUPS.flatMap(([, pages]) => pages);

/** The page that a caller sees who may call models and nothing else. */
export const FOR_CALLERS = "try";
