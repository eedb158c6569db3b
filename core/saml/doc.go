// Package saml reads, checks and makes SAML 2.0 documents for both roles that the gate plays: identity provider towards
// applications, service provider towards providers. It follows SAML Core, Bindings, Profiles and Metadata (OASIS, 2005,
// with errata) and refuses whatever they leave unsaid.
//
// A received message is opened first (OpenRequest, OpenResponse), which shows only whose it claims to be; what it says
// is had from Check alone, which verifies every signature and every rule. Failures are *explain.Failure.
package saml
