package kerberos

import (
	"encoding/base64"
	"encoding/binary"
	"time"

	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/asn1tools"
	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/gssapi"
	"github.com/jcmturner/gokrb5/v8/iana"
	"github.com/jcmturner/gokrb5/v8/iana/asnAppTag"
	"github.com/jcmturner/gokrb5/v8/iana/flags"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/iana/msgtype"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/jcmturner/gokrb5/v8/types"
)

// proof is the part of an AP-REP that only the service that was meant can encrypt (RFC 4120, section 5.5.2).
type proof struct {
	CTime time.Time `asn1:"generalized,explicit,tag:0"`
	Cusec int       `asn1:"explicit,tag:1"`
}

// answer makes the token that ends the negotiation, with a proof of who we are where one was asked for.
func (v *verification) answer(t *messages.EncTicketPart, id *Identity) error {
	var token []byte
	if v.mutual() {
		var err error
		if token, err = v.proven(t.Key); err != nil {
			return err
		}
	}
	if !v.shown.wrap.negotiated {
		id.Answer = base64.StdEncoding.EncodeToString(token)
		return nil
	}
	end := spnego.NegTokenResp{
		NegState: asn1.Enumerated(spnego.NegStateAcceptCompleted), SupportedMech: v.shown.wrap.mechanism, ResponseToken: token,
	}
	octets, err := end.Marshal()
	if err != nil {
		return err
	}
	id.Answer = base64.StdEncoding.EncodeToString(octets)
	return nil
}

// mutual says whether whoever shows the ticket wants to know who we are: by the option of the request, or the flag in its checksum
// (RFC 4121, section 4.1.1.1).
func (v *verification) mutual() bool {
	sum := v.shown.req.Authenticator.Cksum.Checksum
	return types.IsFlagSet(&v.shown.req.APOptions, flags.APOptionMutualRequired) ||
		binary.LittleEndian.Uint32(sum[20:24])&gssapi.ContextFlagMutual != 0
}

// proven is the mechanism's token with an AP-REP: the time of the authenticator, encrypted by the key that only we could read.
func (v *verification) proven(key types.EncryptionKey) ([]byte, error) {
	a := &v.shown.req.Authenticator
	plain, err := asn1.Marshal(proof{a.CTime.UTC(), a.Cusec})
	if err != nil {
		return nil, err
	}
	sealed, err := crypto.GetEncryptedData(asn1tools.AddASNAppTag(plain, asnAppTag.EncAPRepPart), key, keyusage.AP_REP_ENCPART, 0)
	if err != nil {
		return nil, err
	}
	reply, err := asn1.Marshal(messages.APRep{PVNO: iana.PVNO, MsgType: msgtype.KRB_AP_REP, EncPart: sealed})
	if err != nil {
		return nil, err
	}
	head, err := asn1.Marshal(gssapi.OIDKRB5.OID())
	if err != nil {
		return nil, err
	}
	token := binary.BigEndian.AppendUint16(head, tokenAnswer)
	return asn1tools.AddASNAppTag(append(token, asn1tools.AddASNAppTag(reply, asnAppTag.APREP)...), 0), nil
}
