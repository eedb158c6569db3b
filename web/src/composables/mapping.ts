import type { Previewed, Rule } from "../api/client";

export type Kind = "from" | "value" | "expr" | "use";

/** A rule of a mapping as it stands in the editor. */
export type Row = {
  set: string;
  kind: Kind;
  source: string;
  steps: unknown[];
  required: boolean;
  place: string;
  rest: Rule;
};

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
      steps: [...((r.steps as unknown[] | undefined) ?? [])],
      required: !!r.required,
      place: r.place ?? "",
      rest: r,
    };
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
      steps: row.steps.length ? row.steps : undefined,
      required: row.required || undefined,
      place: row.place || undefined,
    };
    if (Array.isArray(out.from) && !out.from.length) delete out.from;
    return JSON.parse(JSON.stringify(out)) as Rule;
  });
}

/** A list with the entry at one place moved to another. */
export function moved<T>(list: T[], from: number, to: number): T[] {
  const all = [...list];
  const [one] = all.splice(from, 1);
  all.splice(Math.max(0, Math.min(to, all.length)), 0, one!);
  return all;
}

export type Made = { values: string[]; problem?: string };

/**
 * What each rule made of a sample, by the rule's place. A rule set stands for its own rules, so that it has no line; of
 * rules for the same name each takes the next line of that name.
 */
export function madeBy(rows: Row[], got: Previewed | null, direction: "in" | "out"): (Made | undefined)[] {
  const attempt = direction === "in" ? got?.in : got?.out;
  if (!attempt) return rows.map(() => undefined);
  const lines = [...attempt.steps];
  const problems = [...attempt.problems];
  return rows.map((row) => {
    if (row.kind === "use") return undefined;
    const set = row.set.trim();
    const at = lines.findIndex((l) => l.rule === set);
    const line = at < 0 ? undefined : lines.splice(at, 1)[0];
    const wrong = problems.findIndex((p) => p.rule === set);
    const problem = wrong < 0 ? undefined : problems.splice(wrong, 1)[0]!.message;
    return line || problem ? { values: line?.output ?? [], problem } : undefined;
  });
}
