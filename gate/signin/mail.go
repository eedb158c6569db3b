package signin

import (
	"context"
	"strings"

	"innergate/core/address"
	"innergate/core/proof"
	"innergate/gate/ground"
)

// proveMail sends a code to an address. What goes wrong is said in words for the person.
func (g *Room) proveMail(ctx context.Context, s *SignIn, step *completing, addr string) (string, error) {
	var held proof.Mail
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
	next, code, err := held.Next(s.ID, addr, g.Now().Add(ground.ProofLife))
	if err != nil {
		return "", err
	}
	step.Proof = &next
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
