package signin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"math/big"
	"strings"
	"time"

	"innergate/core/address"
	"innergate/core/keys"
	"innergate/gate/ground"
)

// mailProof is a mail address that somebody says is theirs, until they have entered the code that was sent to it. It is
// kept with the sign-in.
type mailProof struct {
	Address string    `json:"address"`
	Hash    []byte    `json:"hash"`
	Until   time.Time `json:"until"`
	Sent    int       `json:"sent"`
	Wrong   int       `json:"wrong"`
}

// proveMail sends a code to an address. What goes wrong is said in words for the person.
func (g *Room) proveMail(ctx context.Context, s *SignIn, step *completing, addr string) (string, error) {
	var held mailProof
	if step.Proof != nil {
		held = *step.Proof
	}
	if held.Sent >= ground.CodesPerSign {
		return "No more codes are sent in this sign-in. Please begin again.", nil
	}
	for name, limit := range map[string]int{"mail-from:" + address.Network(s.Browser.Address): 20, "mail-to:" + strings.ToLower(addr): 5} {
		if g.Guessing(ctx, name, limit) != nil {
			return "Too many codes were sent. Please wait a quarter of an hour.", nil
		}
	}
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return "", err
	}
	code := fmt.Sprintf("%06d", n)
	step.Proof = &mailProof{
		Address: addr,
		Hash:    keys.HashSecret(s.ID + code),
		Until:   g.Now().Add(ground.ProofLife),
		Sent:    held.Sent + 1,
		Wrong:   held.Wrong,
	}
	if err := g.SendMail(ctx, addr, "Your code for "+s.App.Name,
		"Somebody, most likely you, is about to use "+s.App.Name+" for the first time and gave this mail address.\n\nThe code is "+
			code[:3]+" "+code[3:]+"\n\nIt is good for 15 minutes, on the page that asks for it. If this was not you, nothing happens "+
			"without the code.\n"); err != nil {
		step.Proof.Hash = nil
		g.Log.Warn("a code could not be sent", "reference", s.Reference, "error", err)
		return "The code could not be sent. Please check the address, or try again later.", nil
	}
	return "", nil
}

// provenMail says whether this is the code that was sent. A wrong one counts.
func (g *Room) provenMail(s *SignIn, p *mailProof, code string) bool {
	code = strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, code)
	if len(p.Hash) > 0 && p.Wrong < ground.MaxWrong && g.Now().Before(p.Until) &&
		subtle.ConstantTimeCompare(p.Hash, keys.HashSecret(s.ID+code)) == 1 {
		return true
	}
	p.Wrong++
	return false
}
