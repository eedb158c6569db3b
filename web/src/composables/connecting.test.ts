import { describe, expect, it } from "vitest";
import type { Application } from "../api/client";
import { connecting } from "./connecting";

const nothing = { assigned: false, tried: false };
const steps = (a: object, known = nothing) =>
  Object.fromEntries(
    connecting({ reach: "draft", ...a } as Application, known).map((s) => [s.id, `${s.done ? "✓" : "○"} ${s.text}`]),
  );

describe("connecting an application", () => {
  it("begins with what it speaks, and says what is missing of it", () => {
    expect(steps({ kind: "saml", saml: {} }).take).toBe("○ entity ID and ACS URL missing");
    expect(steps({ kind: "oidc", oidc: { redirectUris: ["https://a/cb"] } }).take).toBe("✓ redirect URI held");
    expect(steps({ kind: "guarded", guarded: { publicUrl: "https://a" } }).take).toBe(
      "○ public and inner address missing",
    );
    expect(steps({ kind: "link", startUrl: "https://a" }).take).toBe("✓ address held");
  });
  it("wants a secret of a client that proves itself by one", () => {
    const client = { kind: "oidc", oidc: { authentication: "client_secret_basic" } };
    expect(steps(client).give).toBe("○ it has no client secret yet");
    expect(steps({ ...client, secrets: [{}] }).give).toBe("✓ ready since the draft was made");
  });
  it("lets nobody in until a provider is chosen and somebody is let in", () => {
    expect(steps({ kind: "saml" }).who).toBe("○ choose a provider");
    expect(steps({ kind: "saml", providers: ["staff"] }).who).toBe("○ nobody is assigned");
    expect(steps({ kind: "saml", providers: ["staff"] }, { assigned: true, tried: false }).who).toBe("✓ staff");
    expect(steps({ kind: "saml", providers: ["staff"], access: { to: "everybody" } }).who).toBe("✓ staff");
  });
  it("ends with a sign-in that went through, and the door open", () => {
    const s = steps({ kind: "saml", reach: "everyone" }, { assigned: false, tried: true });
    expect([s.rehearse, s.open]).toEqual(["✓ a sign-in went through", "✓ everyone"]);
  });
});
