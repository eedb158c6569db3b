import { expect, test } from "vitest";
import { put } from "./offer";

test("puts a value into its place", () => {
  const draft = { oidc: { issuer: "x", redirectUris: ["a", "b"] } };
  put(draft, "oidc.issuer", "https://id.northquay.example");
  put(draft, "oidc.redirectUris[1]", "https://ledger.example/answer");
  put(draft, "startUrl", "https://ledger.example/");
  expect(draft).toEqual({
    oidc: { issuer: "https://id.northquay.example", redirectUris: ["a", "https://ledger.example/answer"] },
    startUrl: "https://ledger.example/",
  });
});
