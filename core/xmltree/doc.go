// Package xmltree reads the XML that SAML uses into a bounded, namespace-aware tree, and writes it back, also in
// exclusive canonical form (Exclusive XML Canonicalization Version 1.0, W3C 2002).
//
// It is strict on purpose: no document type declaration, no entities but the five predefined ones, only UTF-8, bounded
// size and depth, every prefix bound. One tree is built from the received bytes; signatures are verified over it and
// typed values are made from it, so that no second reader can disagree with the first.
package xmltree
