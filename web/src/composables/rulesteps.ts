/** What a step of a mapping rule wants to know beside its word. */
export type StepShape = "none" | "text" | "pattern" | "number" | "pair" | "table";

type Known = { word: string; means: string; shape: StepShape; example?: unknown };

/** The steps to choose from, each with what is filled in first. */
export const stepMenu: Known[] = [
  { word: "lower", means: "small letters", shape: "none" },
  { word: "upper", means: "capital letters", shape: "none" },
  { word: "trim", means: "no spaces around it", shape: "none" },
  { word: "first", means: "only the first value", shape: "none" },
  { word: "unique", means: "each value once", shape: "none" },
  { word: "sort", means: "in order", shape: "none" },
  { word: "before", means: "what stands before a text", shape: "text", example: "@" },
  { word: "after", means: "what stands after a text", shape: "text", example: "@" },
  { word: "keep", means: "values that fit a pattern", shape: "pattern", example: "^ferry-" },
  { word: "drop", means: "no values that fit a pattern", shape: "pattern", example: "^test-" },
  { word: "cut_prefix", means: "take a beginning away", shape: "text", example: "ferry-" },
  { word: "cut_suffix", means: "take an end away", shape: "text", example: ".old" },
  { word: "add_prefix", means: "put something before", shape: "text", example: "crew-" },
  { word: "add_suffix", means: "put something behind", shape: "text", example: "@saltmere.example" },
  { word: "replace", means: "by a pattern", shape: "pair", example: ["(.*)_(.*)", "$2-$1"] },
  { word: "translate", means: "value by value", shape: "table", example: { old: "new", "*": "other" } },
  { word: "split", means: "one value into many", shape: "text", example: ";" },
  { word: "join", means: "many values into one", shape: "text", example: "; " },
  { word: "limit", means: "the first few values", shape: "number", example: 10 },
  { word: "default", means: "where there is none", shape: "text", example: "guest" },
];

/** The word of a step and its argument: "lower", or {"keep": "^ferry-"}. */
export function partsOf(step: unknown): { word: string; arg: unknown } {
  if (typeof step === "string") return { word: step, arg: undefined };
  const [word, arg] = Object.entries((step ?? {}) as Record<string, unknown>)[0] ?? ["", undefined];
  return { word, arg };
}

export const shapeOf = (step: unknown): StepShape =>
  stepMenu.find((s) => s.word === partsOf(step).word)?.shape ?? (typeof step === "string" ? "none" : "text");

/** The step of a word with an argument, in the form that a configuration holds. */
export const stepOf = (word: string, arg: unknown): unknown => (arg === undefined ? word : { [word]: arg });

/** A new step as it is first put into a rule. */
export const newStep = (word: string) => stepOf(word, stepMenu.find((s) => s.word === word)?.example);

/** The lines of a table, each as value → value, and back. A line without an arrow is kept as it is typed. */
export const tableText = (arg: unknown) =>
  Object.entries((arg ?? {}) as Record<string, unknown>)
    .map(([from, to]) => `${from} → ${String(to)}`)
    .join("\n");
export const tableOf = (text: string) =>
  Object.fromEntries(
    text
      .split("\n")
      .map((l) => l.split(/\s*(?:→|->)\s*/))
      .filter(([from]) => from?.trim())
      .map(([from, to]) => [from!.trim(), to?.trim() ?? ""]),
  );
