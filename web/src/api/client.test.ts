import { describe, expect, it } from "vitest";
import { applicationConfig, ApiError, ok, providerConfig, type Application, type Provider } from "./client";

describe("what is sent back of an object", () => {
  const shown = {
    id: "01ARZ3NDEKTSV4RRFFQ69G5FAV",
    revision: 4,
    kind: "saml",
    slug: "crew-rota",
    name: "Crew Rota",
    startUrl: "https://rota.saltmere.example/",
    providers: ["saltmere-staff"],
    saml: { entityId: "https://rota.saltmere.example/saml" },
    findings: [],
    stations: [],
    lastSignIn: "2026-11-29T10:00:00Z",
    somethingNew: "that a later service shows",
  } as unknown as Application;
  it("is its configuration, and nothing that the service adds", () => {
    expect(Object.keys(applicationConfig(shown)).sort()).toEqual([
      "kind",
      "name",
      "providers",
      "saml",
      "slug",
      "startUrl",
    ]);
  });
  it("is a copy", () => {
    applicationConfig(shown).saml!.entityId = "changed";
    expect(shown.saml!.entityId).toBe("https://rota.saltmere.example/saml");
  });
  it("has the part of its kind", () => {
    expect(applicationConfig({ kind: "guarded" } as Application).guarded).toEqual({});
    expect(applicationConfig({ kind: "oidc" } as Application).oidc).toEqual({});
    expect(applicationConfig({ kind: "link" } as Application).saml).toBeUndefined();
    expect(providerConfig({ kind: "oauth2" } as Provider).oidc).toEqual({});
    expect(providerConfig({ kind: "directory" } as Provider).oidc).toBeUndefined();
  });
});

describe("an answer of the service", () => {
  const answer = (status: number, body: object) =>
    Promise.resolve({ error: body, response: new Response(null, { status }) });
  it("says in its own words what was wrong, field by field", async () => {
    const problem = {
      title: "Not valid",
      status: 422,
      detail: "2 fields are wrong.",
      fields: [
        { field: "saml.acs", message: "It must be https." },
        { field: "name", message: "It is taken.", file: "gate.yaml", line: 7 },
      ],
      remedy: "Correct them.",
    };
    const failed = await ok(answer(422, problem)).catch((e: unknown) => e);
    expect(failed).toBeInstanceOf(ApiError);
    expect((failed as ApiError).message.split("\n")).toEqual([
      "2 fields are wrong.",
      "saml.acs: It must be https.",
      "gate.yaml:7: name: It is taken.",
      "Correct them.",
    ]);
  });
  it("says so where the gate does not answer", async () => {
    const failed = await ok(Promise.reject(new TypeError("network"))).catch((e: unknown) => e);
    expect((failed as ApiError).problem.code).toBe("unreachable");
  });
  it("says the status where there is no problem document", async () => {
    const failed = await ok(answer(502, {})).catch((e: unknown) => e);
    expect((failed as ApiError).message).toContain("502");
  });
  it("names who changed what meanwhile", async () => {
    const problem = {
      title: "Changed meanwhile",
      status: 409,
      meanwhile: {
        by: "Fenna",
        theirs: [{ field: "name", before: "Rota", after: "Crew Rota" }],
        mine: [{ field: "name", before: "Rota", after: "" }],
      },
    };
    const failed = (await ok(answer(409, problem)).catch((e: unknown) => e)) as ApiError;
    expect(failed.message).toContain("What Fenna changed:\n  name: Rota → Crew Rota");
    expect(failed.message).toContain("What you wanted to change:\n  name: Rota → –");
  });
});
