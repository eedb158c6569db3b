package persons

import (
	"context"
	"strings"

	"innergate/core/address"
	"innergate/core/proof"
	"innergate/gate/ground"
)

// ProveMail sends a code to an address, for somebody at a network address who is about to use an application. What is bound is
// what the code counts for. What goes wrong is said in words for the person.
func (g *Room) ProveMail(ctx context.Context, held proof.Mail, bound, addr, from, application string) (proof.Mail, string, error) {
	if held.Sent >= ground.CodesPerSign {
		return held, "No more codes are sent in this sign-in. Please begin again.", nil
	}
	if g.GuessingAll(ctx, map[string]int{"mail-from:" + address.Network(from): 20, "mail-to:" + strings.ToLower(addr): 5}) != nil {
		return held, "Too many codes were sent. Please wait a quarter of an hour.", nil
	}
	next, code, err := held.Next(bound, addr, g.Now().Add(ground.ProofLife))
	if err != nil {
		return held, "", err
	}
	if err := g.SendMail(ctx, addr, "Your code for "+application,
		"Somebody, most likely you, is about to use "+application+" for the first time and gave this mail address.\n\nThe code is "+
			code[:3]+" "+code[3:]+"\n\nIt is good for 15 minutes, on the page that asks for it. If this was not you, nothing happens "+
			"without the code.\n"); err != nil {
		next.Hash = nil
		g.Log.WarnContext(ctx, "a code could not be sent", "for", bound, "error", err)
		return next, "The code could not be sent. Please check the address, or try again later.", nil
	}
	return next, "", nil
}
