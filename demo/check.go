package demo

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"innergate/api"
	"innergate/client"
	"innergate/standin"
)

// Check walks the demo's sign-ins by plain HTTP and prints a line for each step. The first step that fails is the
// error. Every message goes to the recorder.
func Check(ctx context.Context, w *World, recorder *standin.Recorder, out io.Writer) error {
	step := func(format string, args ...any) { fmt.Fprintf(out, "ok    "+format+"\n", args...) }
	fail := func(err error) error {
		fmt.Fprintf(out, "FAIL  %s\n", err)
		return fmt.Errorf("the demo's check failed")
	}
	if err := ready(ctx, w); err != nil {
		return fail(err)
	}
	step("the gate is ready at %s", w.URL)
	for _, flow := range []struct{ name, words, start, user, begun string }{
		{"sp", "SP-initiated", w.RotaURL + "/sign-in", "mvoss", "the application"},
		{"idp", "IdP-initiated", w.URL + "/start/crew-rota", "zoberg", "the identity provider"},
	} {
		b := w.Walker()
		if err := b.SignIn(ctx, flow.start, flow.user); err != nil {
			return fail(fmt.Errorf("%s: %w", flow.words, err))
		}
		if got := b.Inner("nameid"); got != flow.user || b.Inner("begun") != flow.begun {
			return fail(fmt.Errorf(
				"%s: Crew Rota should have received %q begun by %s, and shows %q:\n%s", flow.words, flow.user,
				flow.begun, got, strings.TrimSpace(b.Text),
			))
		}
		step("%s: Crew Rota received %s, begun by %s", flow.words, flow.user, flow.begun)
		if err := checkTrace(ctx, w, recorder, flow.name, step); err != nil {
			return fail(fmt.Errorf("%s: %w", flow.words, err))
		}
	}
	if err := checkRehearsals(ctx, w, step); err != nil {
		return fail(err)
	}
	if err := checkRefusal(ctx, w, step); err != nil {
		return fail(err)
	}
	for _, check := range []func(context.Context, *World, func(string, ...any)) error{checkSource, checkPartnerChange, checkRollover,
		checkArtifact, checkBridges, checkOffice, checkQuayside, checkTool, checkStrength, checkOpenIDRefusal, checkContexts,
		checkUnsignedLogout, checkUnfetchedCode, checkRegister, checkBerths, checkAccounts, checkPushes} {
		if err := check(ctx, w, step); err != nil {
			return fail(err)
		}
	}
	sheet, err := w.Client().Exchange(ctx, "applications", "crew-rota")
	if err == nil {
		err = recorder.KeepJSON("exchange-sheet.json", sheet)
	}
	if err == nil {
		var doc []byte
		if doc, err = w.Client().OurMetadata(ctx, "", "", true); err == nil {
			err = recorder.Keep("our-metadata-signed.xml", doc)
		}
	}
	if err != nil {
		return fail(err)
	}
	step("exchange sheet and signed metadata")
	fmt.Fprintln(out, "all sign-ins work")
	return nil
}

func ready(ctx context.Context, w *World) error {
	b := w.Walker()
	if err := b.Get(ctx, w.URL+"/readyz"); err != nil {
		return err
	}
	if b.Status != http.StatusOK {
		return fmt.Errorf("the gate is not ready: %s", b.Text)
	}
	return nil
}

func checkTrace(ctx context.Context, w *World, recorder *standin.Recorder, flow string, step func(string, ...any)) error {
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil {
		return err
	}
	if len(list.Items) != 1 || list.Items[0].Outcome != "signed-in" || list.Items[0].Flow != flow {
		return fmt.Errorf("the newest trace should be of this sign-in: %+v", list.Items)
	}
	t, err := w.Client().Trace(ctx, list.Items[0].Reference)
	if err != nil {
		return err
	}
	checks := 0
	for _, e := range t.Entries {
		if e.Check != nil {
			if checks++; !e.Check.OK {
				return fmt.Errorf("the check %s did not hold", e.Check.Name)
			}
		}
	}
	step(
		"trace %s: %d entries, %d checks, all held, %.1f ms in the gate", t.Reference, len(t.Entries), checks,
		float64(t.Micros-t.ProviderMicros)/1000,
	)
	return recorder.KeepJSON("trace-"+flow+".json", t)
}

func checkRehearsals(ctx context.Context, w *World, step func(string, ...any)) error {
	for _, flow := range []string{"sp", "idp"} {
		r, err := w.Client().NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: flow})
		if err != nil {
			return err
		}
		b := w.Walker()
		if err := b.Rehearse(ctx, r.Link, "jhale"); err != nil {
			return err
		}
		if r, err = w.Client().Rehearsal(ctx, r.ID); err != nil {
			return err
		}
		if len(r.Traces) != 1 || r.Traces[0].Outcome != "signed-in" {
			return fmt.Errorf("the rehearsal (%s) should have one good trace: %+v", flow, r.Traces)
		}
		step("rehearsal begun at the %s, trace %s", map[string]string{"sp": "application", "idp": "gate"}[flow], r.Traces[0].Reference)
	}
	return nil
}

// checkRefusal has the provider make a mistake and sees that it is refused and explained.
func checkRefusal(ctx context.Context, w *World, step func(string, ...any)) error {
	w.Staff.SetMistake("audience")
	defer w.Staff.SetMistake("")
	b := w.Walker()
	if err := b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"); err != nil {
		return err
	}
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil {
		return err
	}
	if len(list.Items) != 1 || list.Items[0].Code != "saml.audience-mismatch" {
		return fmt.Errorf("a wrong audience should be refused as saml.audience-mismatch: %+v", list.Items)
	}
	step("a wrong audience is refused and explained as %s", list.Items[0].Code)
	return nil
}

// checkBerths opens a page of Berth Board, which knows only a header, and is let through as somebody.
func checkBerths(ctx context.Context, w *World, step func(string, ...any)) error {
	b := w.Walker()
	b.Provider = "saltmere-staff"
	if err := b.SignIn(ctx, w.BerthsURL+"/harbour-master?view=week", "tkerr"); err != nil {
		return err
	}
	if b.Inner("person") != "tkerr" || b.Inner("path") != "/harbour-master?view=week" {
		return fmt.Errorf("the guard should have told Berth Board that tkerr comes, at the page that was asked for: %s", b.Text)
	}
	if err := b.Get(ctx, w.BerthsURL+"/health"); err != nil {
		return err
	}
	if b.Status != http.StatusForbidden {
		return fmt.Errorf("a path that is refused should be refused: %d", b.Status)
	}
	step("Berth Board, behind the gate: tkerr came to the page that was asked for; a refused path is refused")
	return nil
}
