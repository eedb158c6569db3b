package demo

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"innergate/api"
	"innergate/client"
	"innergate/standin"
)

// SignInThere enters name and password at the page of a directory, and goes on until no page sends on.
func (w *Walker) SignInThere(ctx context.Context, name, password string) error {
	if err := w.Submit(ctx, url.Values{"name": {name}, "password": {password}}); err != nil {
		return err
	}
	return w.Onward(ctx)
}

// checkOffice signs somebody in with a directory, has somebody change a password first, and has a locked account explained.
func checkOffice(ctx context.Context, w *World, step func(string, ...any)) error {
	begin := func() (*Walker, error) {
		b := w.Walker()
		b.Provider = "harbour-office"
		return b, b.SignIn(ctx, w.LedgerURL+"/sign-in", "")
	}
	b, err := begin()
	if err == nil {
		err = b.SignInThere(ctx, "wfell", standin.OfficePassword)
	}
	if err != nil {
		return err
	}
	if got := b.Inner("claim-email"); got != "wfell@harbour.example" {
		return fmt.Errorf("the application Cargo Ledger should have received wfell@harbour.example and shows %q: %s", got, b.Text)
	}
	step("LDAP: Cargo Ledger received wfell@harbour.example from Harbour Office")
	if b, err = begin(); err == nil {
		err = b.SignInThere(ctx, "ntide", standin.OfficePassword)
	}
	if err == nil {
		const fresh = "Kelp-Harbour-8-new"
		err = b.Submit(ctx, url.Values{"old": {standin.OfficePassword}, "password": {fresh}, "again": {fresh}})
	}
	if err == nil {
		err = b.Onward(ctx)
	}
	if err != nil {
		return err
	}
	if got := b.Inner("claim-email"); got != "ntide@harbour.example" {
		return fmt.Errorf("who has changed the password should be signed in, and %q is: %s", got, b.Text)
	}
	step("LDAP: a password that had to be changed was, at sign-in")
	if b, err = begin(); err == nil {
		err = b.SignInThere(ctx, "hbrook", standin.OfficePassword)
	}
	if err != nil {
		return err
	}
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil {
		return err
	}
	if len(list.Items) != 1 || list.Items[0].Code != "ldap.locked" {
		return fmt.Errorf("a locked account should be explained as ldap.locked: %+v", list.Items)
	}
	step("LDAP: a locked account is explained as %s", list.Items[0].Code)
	if err := checkReading(ctx, w, step); err != nil {
		return err
	}
	got, err := w.Client().TryDirectory(ctx, "harbour-office", api.TryDirectory{Name: "rmoor"})
	if err == nil && !got.Works {
		err = fmt.Errorf("the directory should work: %+v", got)
	}
	if err == nil {
		step("LDAP: tried without signing in, %d steps", len(got.Steps))
	}
	return err
}

// checkReading looks at what reading the directory would bring, and writes it.
func checkReading(ctx context.Context, w *World, step func(string, ...any)) error {
	c := w.Client()
	ended := func(r *api.Reading, err error) (*api.Reading, error) {
		for err == nil && (r.State == "looking" || r.State == "writing") {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(20 * time.Millisecond):
			}
			r, err = c.Reading(ctx, "harbour-office", r.ID)
		}
		return r, err
	}
	looked, err := ended(c.NewReading(ctx, "harbour-office", api.NewReading{}))
	if err != nil {
		return err
	}
	wrote, err := ended(c.WriteReading(ctx, "harbour-office", looked.ID))
	if err != nil {
		return err
	}
	if wrote.State != "done" || wrote.Entries != 5 || wrote.Made == 0 || wrote.Bad > 0 {
		return fmt.Errorf("five people should have been read from Harbour Office: %+v", wrote)
	}
	step("LDAP: %d people were read from Harbour Office, %d of them new here", wrote.Entries, wrote.Made)
	return nil
}
