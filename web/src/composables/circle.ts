import type { Circle } from "../api/client";

/** A circle as the form shows it: lists are texts, parted by commas. */
export interface CircleRow {
  groups: string;
  people: string;
  networks: string;
  share: string;
  exceptGroups: string;
  exceptPeople: string;
  exceptNetworks: string;
  instead: string;
}

const text = (list?: string[] | null) => (list ?? []).join(", ");
export const list = (s: string) => {
  const out = s
    .split(",")
    .map((x) => x.trim())
    .filter(Boolean);
  return out.length ? out : undefined;
};

export function readCircle(c?: Circle): CircleRow {
  return {
    groups: text(c?.groups),
    people: text(c?.people),
    networks: text(c?.networks),
    share: c?.share ? String(c.share) : "",
    exceptGroups: text(c?.except?.groups),
    exceptPeople: text(c?.except?.people),
    exceptNetworks: text(c?.except?.networks),
    instead: c?.instead ?? "",
  };
}

export function writeCircle(r: CircleRow): Circle {
  const except = { groups: list(r.exceptGroups), people: list(r.exceptPeople), networks: list(r.exceptNetworks) };
  return {
    groups: list(r.groups),
    people: list(r.people),
    networks: list(r.networks),
    share: Number(r.share) || undefined,
    except: except.groups || except.people || except.networks ? except : undefined,
    instead: r.instead || undefined,
  };
}

/** A circle in sentences. */
export function circleWords(c: Circle): string[] {
  const out: string[] = [];
  if (c.groups?.length) out.push(`the groups ${text(c.groups)}`);
  if (c.people?.length) out.push(text(c.people));
  if (c.networks?.length) out.push(`the networks ${text(c.networks)}`);
  if (c.share) out.push(`${c.share} percent of all people`);
  const not = [...(c.except?.groups ?? []), ...(c.except?.people ?? []), ...(c.except?.networks ?? [])];
  if (not.length) out.push(`but never ${not.join(", ")}`);
  if (c.instead) out.push(`everybody else goes to ${c.instead}`);
  return out;
}
