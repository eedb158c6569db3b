import { applicationFields, providerFields } from "virtual:config-fields";
import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Application = Schemas["Application"];
export type Provider = Schemas["Provider"];
export type ApplicationConfig = Schemas["ConfigApplication"];
export type ProviderConfig = Schemas["ConfigProvider"];
export type Station = Schemas["Station"];
export type Finding = Schemas["Finding"];
export type Trace = Schemas["Trace"];
export type TraceEntry = Schemas["TraceEntry"];
export type TraceSummary = Schemas["TraceSummary"];
export type Reading = Schemas["Reading"];
export type Accounts = Schemas["Accounts"];
export type Account = Schemas["Account"];
export type AccountDetail = Schemas["AccountDetail"];
export type TriedAccounts = Schemas["TriedAccounts"];
export type Pushes = Schemas["Pushes"];
export type Understood = Schemas["Understood"];
export type ExchangeSheet = Schemas["ExchangeSheet"];
export type Rehearsal = Schemas["Rehearsal"];
export type Session = Schemas["Session"];
export type SessionLimits = Schemas["ConfigSessions"];
export type Circle = Schemas["PolicyCircle"];
export type ReachChange = Schemas["ReachChange"];
export type ReachPreview = Schemas["ReachPreview"];
export type Route = Schemas["PolicyRoute"];
export type Routes = Schemas["PolicyRoutes"];
export type RouteAnswer = Schemas["RouteAnswer"];
export type PathRule = Schemas["ConfigPathRule"];
export type TriedPath = Schemas["TriedPath"];
export type Tile = Schemas["ConfigTile"];
export type Difference = Schemas["Difference"];
export type Rule = Schemas["Rule"];
export type Step = unknown;
export type Me = Schemas["Me"];
export type Problem = Schemas["Problem"];
export type Watch = Schemas["Watch"];
export type MetadataDocument = Schemas["Document"];
export type Key = Schemas["Key"];
export type Rollover = Schemas["Rollover"];
export type TrustedCertificate = Schemas["TrustedCertificate"];
export type Source = Schemas["Source"];
export type SourceEntity = Schemas["SourceEntity"];
export type SourceConfig = Schemas["ConfigSource"];
export type Template = Schemas["ConfigTemplate"];
export type ComparedSheet = Schemas["ComparedSheet"];
export type Secret = Schemas["Secret"];
export type TriedDirectory = Schemas["TriedDirectory"];
export type TriedSecret = Schemas["TriedSecret"];
export type AccessRule = Schemas["AccessRule"];
export type TakeIn = Schemas["TakeIn"];
export type CertificateDetail = Schemas["CertificateDetail"];
export type Policy = Schemas["Policy"];
export type PolicyRule = Schemas["PolicyRule"];
export type PolicyCondition = Schemas["PolicyCondition"];
export type Assignment = Schemas["Assignment"];
export type AccessAnswer = Schemas["AccessAnswer"];
export type Person = Schemas["Person"];
export type PersonLine = Schemas["PersonLine"];
export type Group = Schemas["Group"];
export type SetEffect = Schemas["SetEffect"];
export type RuleSet = Schemas["RuleSet"];
export type Suggestion = Schemas["Suggestion"];
export type Previewed = Schemas["Previewed"];
export type Preview = Schemas["Preview"];
export type Suggested = Schemas["Suggested"];
export type AccountChecked = Schemas["AccountChecked"];
export type SubjectChange = Schemas["SubjectChange"];
export type Grant = Schemas["PeopleGrant"];
export type PeopleSettings = Schemas["PeopleSettings"];
export type KeptFinding = Schemas["KeptFinding"];
export type OutsideHost = Schemas["OutsideHost"];
export type Correction = Schemas["Correction"];
export type Judged = Schemas["Judged"];
export type Import = Schemas["Import"];
export type ConfigResult = Schemas["ConfigResult"];
export type Revision = Schemas["Revision"];
export type RevisionView = Schemas["RevisionView"];
export type Proposal = Schemas["Proposal"];
export type Move = Schemas["Move"];
export type MoveApplication = Schemas["MoveApplication"];
export type MoveWave = Schemas["Wave"];
export type MoveComparison = Schemas["MoveComparison"];
export type StillUses = Schemas["StillUses"];
export type Handover = Schemas["Handover"];
export type Batch = Schemas["Batch"];
export type BatchRow = Schemas["BatchRow"];
export type BatchValues = Schemas["BatchValues"];
export type Report = Schemas["Report"];
export type NodeKey = Schemas["NodeKey"];
export type OneNode = Schemas["Node"];

let csrf = "";

/** Sets the value that changing calls carry, as the service gave it with the session. */
export function useCsrf(value: string) {
  csrf = value;
}

/** The header that a changing call made without the client must carry. */
export const changing = (): Record<string, string> => ({ "X-Innergate-CSRF": csrf });

const guard: Middleware = {
  onRequest({ request }) {
    if (csrf && request.method !== "GET") request.headers.set("X-Innergate-CSRF", csrf);
    return request;
  },
};

export const http = createClient<paths>({ baseUrl: "/api/v1" });
http.use(guard);

/** What somebody else changed meanwhile, and what oneself wanted to. */
function meanwhile(p: Problem): string[] {
  const m = p.meanwhile;
  if (!m) return [];
  const say = (list: { field: string; before: string; after: string }[]) =>
    list.slice(0, 6).map((c) => `  ${c.field}: ${c.before.slice(0, 80) || "–"} → ${c.after.slice(0, 80) || "–"}`);
  return [`What ${m.by} changed:`, ...say(m.theirs), "What you wanted to change:", ...say(m.mine)];
}

/** What the service said was wrong, in its own words. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(
      [
        problem.detail || problem.title,
        ...(problem.fields ?? []).map((f) =>
          [f.file ? `${f.file}:${f.line}` : f.line ? `line ${f.line}` : "", f.field, f.message]
            .filter(Boolean)
            .join(": "),
        ),
        problem.remedy,
        ...meanwhile(problem),
      ]
        .filter(Boolean)
        .join("\n"),
    );
  }
}

/** Takes the data out of an answer, or throws an ApiError. */
export async function ok<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let got;
  try {
    got = await answer;
  } catch {
    throw new ApiError({
      type: "about:blank",
      title: "The gate does not answer",
      status: 0,
      code: "unreachable",
      detail: "The gate does not answer. Is it running, and is the network there?",
    });
  }
  if (got.error !== undefined || !got.response.ok) {
    const p = got.error as Problem | undefined;
    throw new ApiError(
      p?.title
        ? p
        : {
            type: "about:blank",
            title: "Failed",
            status: got.response.status,
            code: "http",
            detail: `The gate answered with the status ${got.response.status}.`,
          },
    );
  }
  return got.data as T;
}

/** A copy of what belongs to the configuration. What else an answer holds is the service's view of it, and is not sent back. */
function only(fields: string[], object: object): Record<string, unknown> {
  const copy = JSON.parse(JSON.stringify(object)) as Record<string, unknown>;
  return Object.fromEntries(Object.entries(copy).filter(([name]) => fields.includes(name)));
}

/** An application's configuration without what the service adds to it. */
export function applicationConfig(a: Application): ApplicationConfig {
  const c = only(applicationFields, a) as ApplicationConfig;
  if (c.kind === "saml") c.saml ??= {} as ApplicationConfig["saml"];
  else if (c.kind === "guarded") c.guarded ??= {} as ApplicationConfig["guarded"];
  else if (c.kind === "oidc") c.oidc ??= {} as ApplicationConfig["oidc"];
  return c;
}

/** A provider's configuration without what the service adds to it. */
export function providerConfig(p: Provider): ProviderConfig {
  const c = only(providerFields, p) as ProviderConfig;
  if (c.kind === "saml") c.saml ??= {} as ProviderConfig["saml"];
  else if (c.kind === "ldap") c.ldap ??= {};
  else if (c.kind === "kerberos") c.kerberos ??= {};
  else if (c.kind !== "directory") c.oidc ??= {} as ProviderConfig["oidc"];
  return c;
}
