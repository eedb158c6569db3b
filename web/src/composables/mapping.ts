import type { Rule } from "../api/client";
import { parseStep, stepText } from "./text";

/** A rule of a mapping as it stands in the table. */
export type Row = {
  set: string;
  kind: Kind;
  source: string;
  steps: string;
  required: boolean;
  place: string;
  rest: Rule;
};
export type Kind = "from" | "value" | "expr" | "use";

/** The steps to choose from, with what is to be filled in. */
export const stepMenu: [string, string][] = [
  ["lower", "lower: small letters"],
  ["upper", "upper: capital letters"],
  ["trim", "trim: no spaces around it"],
  ["first", "first: only the first value"],
  ["unique", "unique: each value once"],
  ["sort", "sort: in order"],
  ["before @", "before @"],
  ["after @", "after @"],
  ["keep ^ferry-", "keep: values that fit a pattern"],
  ["drop ^test-", "drop: values that fit a pattern"],
  ["cut_prefix ferry-", "cut_prefix: take a beginning away"],
  ["cut_suffix .old", "cut_suffix: take an end away"],
  ["add_prefix crew-", "add_prefix: put something before"],
  ["add_suffix @saltmere.example", "add_suffix: put something behind"],
  ["replace (.*)_(.*) → $2-$1", "replace: by a pattern"],
  ['{"translate":{"old":"new","*":"other"}}', "translate: value by value"],
  ["split ;", "split: one value into many"],
  ["join ; ", "join: many values into one"],
  ["limit 10", "limit: the first few values"],
  ["default guest", "default: where there is none"],
];

export function kindOf(rule: Rule): Kind {
  return rule.use ? "use" : rule.expr ? "expr" : rule.value ? "value" : "from";
}

export function readRows(rules: Rule[]): Row[] {
  return rules.map((r) => {
    const kind = kindOf(r);
    const source =
      kind === "from"
        ? ([] as string[]).concat((r.from as string | string[] | undefined) ?? []).join(", ")
        : (r[kind] ?? "");
    return {
      set: r.set ?? "",
      kind,
      source: String(source),
      steps: (r.steps ?? []).map(stepText).join(" | "),
      required: !!r.required,
      place: r.place ?? "",
      rest: r,
    };
  });
}

/** Steps that were not touched keep their full form; a table inside a step is shortened when it is shown. */
function steps(row: Row): unknown[] {
  const held = row.rest.steps ?? [];
  const texts = held.map(stepText);
  return row.steps
    .split("|")
    .map((s) => s.trim())
    .filter(Boolean)
    .map((s) => {
      const i = texts.indexOf(s);
      return i >= 0 ? held[i] : parseStep(s);
    });
}

export function writeRows(rows: Row[]): Rule[] {
  return rows.map((row) => {
    if (row.kind === "use") return { use: row.source.trim() } as Rule;
    const from = row.source
      .split(",")
      .map((s) => s.trim())
      .filter(Boolean);
    const out: Record<string, unknown> = {
      ...row.rest,
      set: row.set.trim(),
      use: undefined,
      from: row.kind === "from" ? (from.length === 1 ? from[0] : from) : undefined,
      value: row.kind === "value" ? row.source : undefined,
      expr: row.kind === "expr" ? row.source.trim() : undefined,
      steps: steps(row),
      required: row.required || undefined,
      place: row.place || undefined,
    };
    if (!(out.steps as unknown[]).length) delete out.steps;
    if (Array.isArray(out.from) && !out.from.length) delete out.from;
    return JSON.parse(JSON.stringify(out)) as Rule;
  });
}
