import type { Route, Routes } from "../api/client";
import { list } from "./circle";

/** One condition of a route: what it asks about, and values parted by commas. */
export interface RouteCondition {
  what: string;
  text: string;
}

/** A route as the form shows it. */
export interface RouteRow {
  name: string;
  conditions: RouteCondition[];
  to: string;
}

/** What a route can ask about. */
export const routeKinds: [string, string][] = [
  ["mailDomains", "mail at"],
  ["applications", "for the application"],
  ["groups", "in the group"],
  ["known", "signed in before with"],
  ["networks", "on the network"],
  ["last", "the browser came the last time by"],
  ["wish", "the application asks for"],
  ["reach", "the application is open to"],
];

export const blankRoute = (): RouteRow => ({ name: "", conditions: [{ what: "mailDomains", text: "" }], to: "" });

export function readRoutes(r: Routes): RouteRow[] {
  return (r.rules ?? []).map((one) => ({
    name: one.name ?? "",
    conditions: routeKinds.flatMap(([what]) => {
      const values = (one.if as Record<string, string[] | undefined>)[what];
      return values?.length ? [{ what, text: values.join(", ") }] : [];
    }),
    to: (one.to ?? []).join(", "),
  }));
}

export function writeRoutes(rows: RouteRow[]): Route[] {
  return rows.map((r) => {
    const conditions: Record<string, string[]> = {};
    for (const c of r.conditions) {
      const values = list(c.text);
      if (values) conditions[c.what] = [...(conditions[c.what] ?? []), ...values];
    }
    return { name: r.name || undefined, if: conditions, to: list(r.to) ?? [] } as Route;
  });
}

/** A route in one sentence. */
export function routeWords(r: RouteRow): string {
  const words = new Map(routeKinds);
  const when = r.conditions.filter((c) => c.text.trim()).map((c) => `${words.get(c.what)} ${c.text}`);
  return `${r.name ? r.name + ": " : ""}${when.length ? "if " + when.join(" and ") : "everybody"} → ${r.to.replaceAll(", ", " or ")}`;
}
