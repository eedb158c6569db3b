package messages

// Posted is a SAML message that another site had the browser post, as it came with the browser's own cookies: posted once more,
// from a page of the gate.
type Posted struct {
	Param string // SAMLRequest, SAMLResponse or SAMLart
	Value string
	Relay string
}
