import type { PolicyCondition, PolicyRule } from "../api/client";

/** A rule for access as it stands in the editor: one condition a line. */
export type AccessCondition = {
  not: boolean;
  what: "groups" | "types" | "providers" | "networks" | "mailDomains" | "days" | "hours" | "strength";
  text: string;
};
export type AccessRow = { name: string; then: string; use: string; conditions: AccessCondition[] };

const lists = ["groups", "types", "providers", "networks", "mailDomains", "days"] as const;

export const blankRule = (): AccessRow => ({
  name: "",
  then: "refuse",
  use: "",
  conditions: [{ not: false, what: "groups", text: "" }],
});

function readCondition(c: PolicyCondition | undefined, not: boolean): AccessCondition[] {
  if (!c) return [];
  const out: AccessCondition[] = [];
  for (const what of lists) if (c[what]?.length) out.push({ not, what, text: c[what]!.join(", ") });
  if (c.from) out.push({ not, what: "hours", text: `${c.from} - ${c.until ?? ""}${c.zone ? ` ${c.zone}` : ""}` });
  if (c.strength) out.push({ not, what: "strength", text: c.strength });
  return out;
}

export function readRules(rules: PolicyRule[]): AccessRow[] {
  return rules.map((r) => ({
    name: r.name ?? "",
    then: r.use ? "use" : (r.then ?? "refuse"),
    use: r.use ?? "",
    conditions: [...readCondition(r.if, false), ...readCondition(r.unless, true)],
  }));
}

function writeCondition(list: AccessCondition[]): PolicyCondition | undefined {
  const out: Record<string, unknown> = {};
  for (const c of list) {
    const text = c.text.trim();
    if (c.what === "hours") {
      const m = /^(\S+)\s*(?:-|to|–)\s*(\S+)\s*(.*)$/.exec(text);
      out.from = m?.[1] ?? text;
      out.until = m?.[2];
      if (m?.[3]) out.zone = m[3];
    } else if (c.what === "strength") {
      out.strength = text || "two";
    } else {
      out[c.what] = [
        ...((out[c.what] as string[] | undefined) ?? []),
        ...text
          .split(",")
          .map((s) => s.trim())
          .filter(Boolean),
      ];
    }
  }
  return Object.keys(out).length ? (out as PolicyCondition) : undefined;
}

export function writeRules(rows: AccessRow[]): PolicyRule[] {
  return rows.map((r) => {
    if (r.then === "use") return { use: r.use };
    const out: PolicyRule = { then: r.then };
    if (r.name.trim()) out.name = r.name.trim();
    const when = writeCondition(r.conditions.filter((c) => !c.not));
    const not = writeCondition(r.conditions.filter((c) => c.not));
    if (when) out.if = when;
    if (not) out.unless = not;
    return JSON.parse(JSON.stringify({ name: out.name, if: out.if, unless: out.unless, then: out.then })) as PolicyRule;
  });
}

const words: Record<AccessCondition["what"], string> = {
  groups: "in",
  types: "of type",
  providers: "coming through",
  networks: "on the network",
  mailDomains: "with mail at",
  days: "on",
  hours: "between",
  strength: "with",
};

/** A rule as a sentence, for those who only read. */
export function ruleWords(r: AccessRow): string {
  if (r.then === "use") return `the rules of the set ${r.use}`;
  const say = (list: AccessCondition[]) =>
    list
      .map(
        (c) =>
          `${words[c.what]} ${c.what === "strength" ? (c.text === "two" ? "a second factor" : "one factor") : c.text}`,
      )
      .join(" and ");
  const when = say(r.conditions.filter((c) => !c.not)),
    not = say(r.conditions.filter((c) => c.not));
  const what = { allow: "let in", refuse: "refuse", stronger: "ask for a second factor from" }[r.then] ?? r.then;
  const whom = (when ? `whoever is ${when}` : "everybody") + (not ? `, unless ${not}` : "");
  return `${r.name ? `${r.name}: ` : ""}${what} ${whom}`;
}
