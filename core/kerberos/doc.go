// Package kerberos verifies what a browser shows of its Kerberos ticket: the token of the Negotiate scheme (RFC 4559), in which SPNEGO
// (RFC 4178) or the Kerberos mechanism (RFC 4121) carries an AP-REQ (RFC 4120, section 3.2), and reads the keytabs that open it. The
// messages, their encryption and the file's format are a library's; what is believed of them is decided here.
package kerberos
