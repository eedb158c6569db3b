// Package xmlsig makes and checks XML signatures (XML Signature Syntax and Processing, W3C 2008) and XML encryption
// (XML Encryption 1.1, W3C 2013) in the narrow profile that SAML needs (SAML Core 2.0, section 5.4).
//
// A signature is enveloped in the very element that its one Reference names, is transformed by nothing but
// enveloped-signature and exclusive canonicalisation, and is verified with keys that the caller trusts already: what
// KeyInfo says is only ever evidence. The result of verifying is a Verified, which can't be had in any other way.
package xmlsig
