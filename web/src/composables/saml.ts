type Certificate = { pem: string; use?: string };

/** The certificates in a text, each as it was held where it was held already. */
export function certificatesIn<C extends Certificate>(text: string, held: C[], make: (pem: string) => C): C[] {
  const blocks =
    text.match(/-----BEGIN CERTIFICATE-----[\s\S]*?-----END CERTIFICATE-----/g) ?? (text.trim() ? [text.trim()] : []);
  return blocks.map((pem) => held.find((c) => c.pem.trim() === pem) ?? make(pem));
}

/** Certificates one below the other, as they are pasted. */
export const certificateText = (held?: Certificate[]) => (held ?? []).map((c) => c.pem.trim()).join("\n");
