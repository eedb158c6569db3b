package keys

// Purposes of our keys.
const (
	PurposeSigning    = "saml-signing"
	PurposeEncryption = "saml-encryption"
	PurposeTokenRSA   = "token-rsa"     // RS256 and PS256
	PurposeTokenEC    = "token-p256"    // ES256
	PurposeTokenEd    = "token-ed25519" // EdDSA
	PurposeClient     = "client"        // private_key_jwt at providers
)

// KindsFor lists which kinds of keys serve a purpose, the usual one first.
var KindsFor = map[string][]Kind{
	PurposeSigning:    {RSA2048, RSA3072, RSA4096, P256, P384},
	PurposeEncryption: {RSA2048, RSA3072, RSA4096},
	PurposeTokenRSA:   {RSA2048, RSA3072, RSA4096},
	PurposeTokenEC:    {P256},
	PurposeTokenEd:    {Ed25519},
	PurposeClient:     {P256, RSA2048, RSA3072, Ed25519},
}
