/** A value as the configuration holds it, and the words that people choose it by. */
export type Choice = [value: string, words: string];

/** How an application's wishes for a strength of sign-in are taken. */
export const contextWishes: Choice[] = [
  ["", "as it says: what it demands must be proven"],
  ["prefer", "asked for, and taken without it"],
  ["ignore", "not at all"],
];

export const nameIDFormats: Choice[] = [
  ["urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified", "unspecified"],
  ["urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress", "emailAddress"],
  ["urn:oasis:names:tc:SAML:2.0:nameid-format:persistent", "persistent"],
  ["urn:oasis:names:tc:SAML:2.0:nameid-format:transient", "transient"],
];

const more = "http://www.w3.org/2001/04/xmldsig-more#";
export const signatureAlgorithms: Choice[] = [
  ["", "as fits our key"],
  [`${more}rsa-sha256`, "RSA-SHA256"],
  [`${more}rsa-sha384`, "RSA-SHA384"],
  [`${more}rsa-sha512`, "RSA-SHA512"],
  [`${more}ecdsa-sha256`, "ECDSA-SHA256"],
  [`${more}ecdsa-sha384`, "ECDSA-SHA384"],
];
export const digestAlgorithms: Choice[] = [
  ["", "as the signature"],
  ["http://www.w3.org/2001/04/xmlenc#sha256", "SHA-256"],
  [`${more}sha384`, "SHA-384"],
  ["http://www.w3.org/2001/04/xmlenc#sha512", "SHA-512"],
];
export const contentEncryptions: Choice[] = [
  ["", "AES-256-GCM"],
  ["http://www.w3.org/2009/xmlenc11#aes128-gcm", "AES-128-GCM"],
  ["http://www.w3.org/2001/04/xmlenc#aes256-cbc", "AES-256-CBC"],
  ["http://www.w3.org/2001/04/xmlenc#aes128-cbc", "AES-128-CBC"],
];
export const keyTransports: Choice[] = [
  ["", "RSA-OAEP (mgf1p)"],
  ["http://www.w3.org/2009/xmlenc11#rsa-oaep", "RSA-OAEP with SHA-256"],
];

/** How a client of OpenID Connect proves who it is. */
export const clientProofs: Choice[] = [
  ["client_secret_basic", "a secret, in the header (client_secret_basic)"],
  ["client_secret_post", "a secret, in the form (client_secret_post)"],
];

/** The same texts, each as its own value. */
export const asChoices = (texts: string[]): Choice[] => texts.map((t) => [t, t]);
