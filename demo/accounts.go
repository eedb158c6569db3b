package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"innergate/api"
	"innergate/client"
)

const ledgerSlug = "cargo-ledger"

// ledger is Cargo Ledger as people and machines reach it: its pages, its SCIM side, and the page about that.
func (w *World) ledger() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("/scim/v2/", w.LedgerAccounts)
	mux.Handle("/accounts", w.LedgerAccounts.Page("Cargo Ledger"))
	mux.Handle("/", w.Ledger.Handler())
	return mux
}

// accounts begins to keep Cargo Ledger's accounts: some of its people are there already, one of a machine is nobody's, one waits for
// approval, and the ledger changed one by itself. Whoever starts the demo again has the accounts compared anew: the ledger forgets.
func (w *World) accounts(ctx context.Context) error {
	cl := w.Client()
	v, err := cl.Accounts(ctx, ledgerSlug)
	if err != nil {
		return err
	}
	if err := w.pushes(ctx); err != nil {
		return err
	}
	if v.ComparedAt != nil {
		_, err := w.compareAccounts(ctx)
		return err
	}
	if _, err := cl.EnterAccountSecret(ctx, ledgerSlug, api.TheirSecret{Value: w.LedgerAccounts.Token}); err != nil {
		return err
	}
	w.LedgerAccounts.Plant(map[string]any{"userName": "weighbridge", "displayName": "Weighbridge (machine)", "active": true})
	w.LedgerAccounts.Plant(map[string]any{"userName": skippers[0].user, "displayName": skippers[0].family, "active": true})
	for _, p := range skippers {
		list, err := cl.People(ctx, client.Page{Search: p.user})
		if err != nil {
			return err
		}
		if len(list.Items) == 0 {
			return fmt.Errorf("%s should be known", p.user)
		}
		if err := cl.Assign(ctx, ledgerSlug, api.Assignment{Kind: "person", Who: list.Items[0].ID}); err != nil {
			return err
		}
	}
	if _, err := w.compareAccounts(ctx); err != nil {
		return err
	}
	if err := w.approve(ctx, skippers[1].family); err != nil {
		return err
	}
	if err := w.untilThere(ctx, func() bool { return w.LedgerAccounts.Find(skippers[1].user) != nil }); err != nil {
		return err
	}
	if err := w.inStep(ctx, 1); err != nil {
		return err
	}
	w.LedgerAccounts.Plant(map[string]any{"userName": skippers[1].user, "title": "Weighmaster"})
	_, err = w.compareAccounts(ctx)
	return err
}

// approve approves the accounts of some people, by how their names end.
func (w *World) approve(ctx context.Context, families ...string) error {
	cl := w.Client()
	var ids []string
	for _, family := range families {
		list, err := cl.AccountList(ctx, ledgerSlug, client.Page{Search: "", Filters: map[string]string{"state": "approval"}})
		if err != nil {
			return err
		}
		for _, a := range list.Items {
			if len(a.Name) >= len(family) && a.Name[len(a.Name)-len(family):] == family {
				ids = append(ids, a.ID)
			}
		}
	}
	n, err := cl.ActOnAccounts(ctx, ledgerSlug, api.AccountAct{Do: "approve", IDs: ids})
	if err == nil && (n.Count != len(families) || len(ids) == 0) {
		err = fmt.Errorf("%d accounts should have waited for approval, and %d did", len(families), n.Count)
	}
	return err
}

// compareAccounts compares Cargo Ledger's accounts, and waits for that.
func (w *World) compareAccounts(ctx context.Context) (*api.AccountComparison, error) {
	got, err := w.Client().CompareAccounts(ctx, ledgerSlug)
	if err != nil {
		return nil, err
	}
	var v *api.Accounts
	err = w.untilThere(ctx, func() bool {
		v, err = w.Client().Accounts(ctx, ledgerSlug)
		return err == nil && v.Comparison.ID == got.ID && v.Comparison.State != "working"
	})
	if err != nil {
		return nil, err
	}
	if v.Comparison.State != "done" {
		return nil, fmt.Errorf("the accounts of Cargo Ledger could not be compared: %s", v.Comparison.Note)
	}
	return v.Comparison, nil
}

// inStep waits until so many accounts are in step.
func (w *World) inStep(ctx context.Context, n int) error {
	return w.untilThere(ctx, func() bool {
		v, err := w.Client().Accounts(ctx, ledgerSlug)
		return err == nil && v.Counts["step"] >= n
	})
}

// untilThere waits until something holds, two minutes at most.
func (w *World) untilThere(ctx context.Context, holds func() bool) error {
	deadline := time.Now().Add(2 * time.Minute)
	for !holds() {
		if time.Now().After(deadline) {
			return errors.New("what should have come of it did not within two minutes")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// checkAccounts walks an account from assignment to its end, with an outage of the application in the middle.
func checkAccounts(ctx context.Context, w *World, step func(string, ...any)) error {
	const user = "qwell"
	cl := w.Client()
	profile := map[string][]string{"preferred_username": {user}, "given_name": {"Quentin"}, "family_name": {"Wellgate"},
		"name": {"Quentin Wellgate"}, "email": {"quentin@saltmere.example"}, "title": {"tallyman"}}
	made, err := cl.AddPerson(ctx, api.SavePerson{Profile: profile})
	if err != nil {
		return err
	}
	defer cl.DeletePerson(context.WithoutCancel(ctx), made.ID)
	if err := cl.Assign(ctx, ledgerSlug, api.Assignment{Kind: "person", Who: made.ID}); err != nil {
		return err
	}
	waits := func() bool {
		list, err := cl.AccountList(ctx, ledgerSlug, client.Page{Search: "Quentin", Filters: map[string]string{"state": "approval"}})
		return err == nil && len(list.Items) == 1
	}
	if err := w.untilThere(ctx, waits); err != nil {
		return fmt.Errorf("an account should wait for approval: %w", err)
	}
	if w.LedgerAccounts.Find(user) != nil {
		return errors.New("no account should be there before somebody approves it")
	}
	if err := w.approve(ctx, "Wellgate"); err != nil {
		return err
	}
	if err := w.untilThere(ctx, func() bool { return w.LedgerAccounts.Find(user) != nil }); err != nil {
		return fmt.Errorf("the account should be there: %w", err)
	}
	step("SCIM: Quentin was assigned to Cargo Ledger and approved, and has an account there")
	w.LedgerAccounts.SetMistake("down")
	defer w.LedgerAccounts.SetMistake("")
	profile["title"] = []string{"weighmaster"}
	if _, err := cl.PutPerson(ctx, made.ID, api.SavePerson{Profile: profile}); err != nil {
		return err
	}
	paused := func() bool {
		v, err := cl.Accounts(ctx, ledgerSlug)
		return err == nil && v.Code == "scim.busy" && v.PausedUntil != nil
	}
	if err := w.untilThere(ctx, paused); err != nil {
		return fmt.Errorf("an application that is down should be left alone for a while: %w", err)
	}
	w.LedgerAccounts.SetMistake("")
	changed := func() bool { return w.LedgerAccounts.Find(user)["title"] == "weighmaster" }
	if err := w.untilThere(ctx, changed); err != nil {
		return fmt.Errorf("the title should have changed there: %w", err)
	}
	step("SCIM: a changed profile waited while Cargo Ledger was down, and was sent by itself after that")
	if err := cl.Unassign(ctx, ledgerSlug, "person", made.ID); err != nil {
		return err
	}
	gone := func() bool { return w.LedgerAccounts.Find(user)["active"] == false }
	if err := w.untilThere(ctx, gone); err != nil {
		return fmt.Errorf("the account should be deactivated there: %w", err)
	}
	v, err := cl.Accounts(ctx, ledgerSlug)
	if err != nil {
		return err
	}
	if v.Counts["drifted"] != 1 || v.Counts["foreign"] != 1 || v.Counts["approval"] != 2 {
		return fmt.Errorf("one account should be drifted, one nobody's, and one and a group waiting: %v", v.Counts)
	}
	step("SCIM: unassigned, and deactivated there; the ledger's own change and the machine's account are shown")
	return nil
}
