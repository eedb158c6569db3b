package demo

import (
	"context"
	"fmt"
	"time"

	"innergate/api"
	"innergate/core/keys"
)

// signIn signs somebody in at Crew Rota and sees that it works.
func signIn(ctx context.Context, w *World, user string) error {
	b := w.Walker()
	if err := b.SignIn(ctx, w.RotaURL+"/sign-in", user); err != nil {
		return err
	}
	if got := b.Inner("nameid"); got != user {
		return fmt.Errorf("the application should have received %s, and shows %q", user, got)
	}
	return nil
}

// checkSource waits until the federation's signed metadata was read, and makes a draft of one of its members.
func checkSource(ctx context.Context, w *World, step func(string, ...any)) error {
	c := w.Client()
	s, err := c.RefreshSource(ctx, "harbours")
	for err == nil && s.Job != nil {
		select {
		case <-time.After(10 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
		s, err = c.Source(ctx, "harbours")
	}
	if err != nil {
		return err
	}
	if s.Error != "" || s.Entities != len(w.Harbours.Members) {
		return fmt.Errorf("the federation's metadata should hold %d entities: %d, %s", len(w.Harbours.Members), s.Entities, s.Error)
	}
	made, err := c.Adopt(
		ctx,
		"harbours",
		api.Adopt{As: "application", EntityIDs: []string{w.Harbours.Members[1].EntityID, w.Harbours.Members[2].EntityID}},
	)
	if err != nil {
		return err
	}
	drafts := 0
	for _, a := range made.Items {
		if a.Outcome != "refused" {
			drafts++
		}
	}
	if drafts != 1 {
		return fmt.Errorf("of an identity provider and a service provider one should become an application: %+v", made.Items)
	}
	step("the federation's signed metadata was read: %d entities; one became a draft", s.Entities)
	return nil
}

// checkPartnerChange has Saltmere Staff announce a new certificate and sign with it: it is noticed, explained and
// applied, and no sign-in fails.
func checkPartnerChange(ctx context.Context, w *World, step func(string, ...any)) error {
	c := w.Client()
	if err := w.Staff.AnnounceKey(); err != nil {
		return err
	}
	r, err := c.Refresh(ctx, "providers", "saltmere-staff")
	if err != nil {
		return err
	}
	if r.Outcome != "waiting" || len(r.Sentences) != 1 {
		return fmt.Errorf("the new certificate should wait for a decision: %+v", r)
	}
	step("Saltmere Staff's changed metadata is noticed: %s", r.Sentences[0])
	if _, err := c.UseDocument(ctx, "providers", "saltmere-staff", r.Document); err != nil {
		return err
	}
	if err := signIn(ctx, w, "mvoss"); err != nil {
		return err
	}
	w.Staff.ChangeKey()
	if err := signIn(ctx, w, "mvoss"); err != nil {
		return err
	}
	step("applied; sign-ins work before and after it signs with the new one")
	return nil
}

// checkRollover replaces the gate's signing key, with a sign-in after each step.
func checkRollover(ctx context.Context, w *World, step func(string, ...any)) error {
	c := w.Client()
	k, err := c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning, Kind: "rsa-3072"})
	if err != nil {
		return err
	}
	before, err := c.Rollover(ctx, keys.PurposeSigning, "")
	if err != nil {
		return err
	}
	old := before.Active.ID
	for _, s := range []struct {
		words string
		do    func() error
	}{
		{"made", func() error { return nil }},
		{"published", func() error { _, err := c.StepKey(ctx, k.ID, "publish"); return err }},
		{"fetched by the partners", w.Fetch},
		{"active", func() error { _, err := c.SwitchKey(ctx, k.ID, api.SwitchKey{}); return err }},
		{"taken back", func() error { _, err := c.StepKey(ctx, k.ID, "undo"); return err }},
		{"active again", func() error { _, err := c.SwitchKey(ctx, k.ID, api.SwitchKey{}); return err }},
		{"alone, the old one retired", func() error { _, err := c.StepKey(ctx, old, "retire"); return err }},
	} {
		if err := s.do(); err != nil {
			return fmt.Errorf("%s: %w", s.words, err)
		}
		if err := signIn(ctx, w, "zoberg"); err != nil {
			return fmt.Errorf("the next signing key is %s, and a sign-in failed: %w", s.words, err)
		}
	}
	after, err := c.Rollover(ctx, keys.PurposeSigning, "")
	if err != nil {
		return err
	}
	if after.Active.ID != k.ID || after.Have != after.Count {
		return fmt.Errorf("after the rollover everybody should have the new key: %d of %d", after.Have, after.Count)
	}
	step("the gate's signing key was replaced in steps, once taken back; every sign-in in between worked")
	return nil
}

// checkArtifact has the provider answer by artifact.
func checkArtifact(ctx context.Context, w *World, step func(string, ...any)) error {
	set := func(binding string) error {
		p, err := w.Client().Provider(ctx, "saltmere-staff")
		if err != nil {
			return err
		}
		c := p.Provider
		copied := *c.SAML
		copied.ResponseBinding = binding
		c.SAML = &copied
		_, err = w.Client().PutProvider(ctx, c, p.Revision)
		return err
	}
	if err := set("HTTP-Artifact"); err != nil {
		return err
	}
	if err := signIn(ctx, w, "jhale"); err != nil {
		return err
	}
	step("the provider's answer by artifact, fetched over the back channel")
	return set("HTTP-POST")
}
