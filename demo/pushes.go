package demo

import (
	"context"
	"fmt"
	"net/http"

	"innergate/client"
	"innergate/standin"
)

const northquaySlug = "northquay-stevedores"

// pushes lets Northquay Stevedores push its people to the gate, with a token that is made for that each time.
func (w *World) pushes(ctx context.Context) error {
	cl := w.Client()
	held, err := cl.Pushes(ctx, northquaySlug)
	if err != nil {
		return err
	}
	for _, t := range held.Tokens {
		if err := cl.DropPushToken(ctx, northquaySlug, t.ID); err != nil {
			return err
		}
	}
	token, err := cl.NewPushToken(ctx, northquaySlug, 365)
	if err != nil {
		return err
	}
	w.Stevedores = standin.NewSender(held.Address, token.Secret)
	if w.transport != nil {
		w.Stevedores.HTTP.Transport = w.transport
	}
	return nil
}

// PushSomebody has Northquay Stevedores push a foreman's mate, who has not signed in yet.
func (w *World) PushSomebody(ctx context.Context) error {
	return w.Stevedores.Push(ctx, map[string]any{"userName": "tor.lind", "externalId": "nq-4711", "active": true,
		"name":   map[string]any{"givenName": "Tor", "familyName": "Lind"},
		"emails": []any{map[string]any{"value": "tor.lind@northquay.example", "type": "work", "primary": true}}})
}

// checkPushes walks a person whom a provider pushes: in, signed in, deactivated, and out of every session.
func checkPushes(ctx context.Context, w *World, step func(string, ...any)) error {
	const user = "paul.okoro"
	cl := w.Client()
	if err := w.Stevedores.Push(ctx, map[string]any{"userName": user, "externalId": "nq-0815", "active": true,
		"name":   map[string]any{"givenName": "Paul", "familyName": "Okoro"},
		"emails": []any{map[string]any{"value": user + "@northquay.example", "type": "work"}}}); err != nil {
		return err
	}
	if err := w.Stevedores.PushGroup(ctx, "quay-tally", []string{user}); err != nil {
		return err
	}
	list, err := cl.People(ctx, client.Page{Search: "Paul Okoro"})
	if err != nil {
		return err
	}
	if len(list.Items) != 1 {
		return fmt.Errorf("there should be one Paul Okoro, and there are %d", len(list.Items))
	}
	id := list.Items[0].ID
	person, err := cl.Person(ctx, id)
	if err != nil {
		return err
	}
	if len(person.Groups) != 1 || person.Groups[0].Slug != "quay" {
		return fmt.Errorf("by the group that was pushed Paul should be in Quay: %+v", person.Groups)
	}
	walker := w.Walker()
	walker.Provider = northquaySlug
	if err := walker.SignIn(ctx, w.LedgerURL+"/sign-in", user); err != nil {
		return err
	}
	if walker.Inner("claim-email") != user+"@northquay.example" {
		return fmt.Errorf("it should have been Paul who came to Cargo Ledger: %s", walker.Text)
	}
	if again, err := cl.People(ctx, client.Page{Search: "Paul Okoro"}); err != nil || len(again.Items) != 1 {
		return fmt.Errorf("whoever was pushed should be the one who signs in (%v)", err)
	}
	step("SCIM: Northquay Stevedores pushed Paul Okoro and a group, and he signed in as the one who was pushed")
	if err := w.Stevedores.SetActive(ctx, user, false); err != nil {
		return err
	}
	open, err := cl.Sessions(ctx, client.Page{Filters: map[string]string{"person": id}})
	if err != nil {
		return err
	}
	for _, s := range open.Items {
		if s.Ended == nil && s.PersonID == id {
			return fmt.Errorf("the session of Paul should have ended at once: %+v", s)
		}
	}
	barred := w.Walker()
	barred.Provider = northquaySlug
	if err := barred.SignIn(ctx, w.LedgerURL+"/sign-in", user); err != nil {
		return err
	}
	if barred.Status == http.StatusOK && barred.Inner("claim-email") != "" {
		return fmt.Errorf("whoever is inactive should not get in: %s", barred.Text)
	}
	step("SCIM: pushed as inactive, his session ended at once, and nobody comes as him")
	if err := w.Stevedores.SetActive(ctx, user, true); err != nil {
		return err
	}
	pushes, err := cl.Pushes(ctx, northquaySlug)
	if err != nil {
		return err
	}
	if len(pushes.Remarks) == 0 || pushes.People == 0 {
		return fmt.Errorf("the sender's habits should be told: %+v", pushes)
	}
	return nil
}
