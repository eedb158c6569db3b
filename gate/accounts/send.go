package accounts

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/scim"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/store"
)

// sending is one account on its way.
type sending struct {
	*talk
	able *abilities
	row  *store.KeptAccount // as it was read; what is learnt is written here
	who  *who
	// result says in a word what was done.
	result string
	// retell has groups of which the person is a member be looked at: the account is another one, or there for the first time.
	retell bool
	failed error
}

// patience are the pauses before what failed is tried again; after the last it is not.
var patience = []time.Duration{5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, time.Hour, 6 * time.Hour}

// send makes somebody's account what it should be. What concerns the application as a whole comes back as a pause, and leaves the
// account as it was.
func (s *sending) send(ctx context.Context) error {
	id, there := s.row.RemoteID, s.row.There
	err := s.sendOnce(ctx)
	var f *explain.Failure
	if errors.As(err, &f) && f.Code == explain.SCIMMeanwhile { // read it anew, once
		err = s.sendOnce(ctx)
	}
	var stop *paused
	if errors.As(err, &stop) {
		return err
	}
	s.retell = s.row.RemoteID != id || s.row.There != there
	s.settle(err)
	return nil
}

// settle writes into the account how it went.
func (s *sending) settle(err error) {
	now := s.Now().UTC()
	s.row.UpdatedAt, s.failed = now, err
	if err == nil {
		s.row.State, s.row.NextAt, s.row.Tries, s.row.Code, s.row.Reason, s.row.Would, s.row.Drift = InStep, never, 0, "", "", "", ""
		s.row.Agreed = false
		if !s.row.Wanted {
			s.row.RemovedAt = &now
		}
		return
	}
	var f *explain.Failure
	if !errors.As(err, &f) {
		f = explain.New(explain.SCIMFailed, explain.Fact("reason", err.Error())).Of(s.app.Name)
	}
	s.row.Code, s.row.Reason = string(f.Code), f.Explain().Cause
	s.row.State, s.row.NextAt = Failed, never
	if f.Explain().Again && s.row.Tries < len(patience) {
		s.row.State, s.row.NextAt = Again, now.Add(patience[s.row.Tries])
		s.row.Tries++
	}
	if f.Code == explain.SCIMTaken && s.row.RemoteID != "" { // an account was found; somebody has to say whose it is, whatever was agreed
		s.row.State, s.row.Would, s.row.Approved = Approval, Change, false
	}
}

func (s *sending) sendOnce(ctx context.Context) error {
	if !s.row.Wanted {
		return s.takeAway(ctx)
	}
	targets, err := s.able.targets(s.app, s.who)
	if err != nil {
		return err
	}
	if s.row.RemoteID == "" {
		there, err := s.own(ctx, text(targets, "externalId"))
		if err != nil {
			return err
		}
		if there == nil {
			return s.create(ctx, targets)
		}
		s.take(there)
		return s.change(ctx, targets, there)
	}
	there, err := s.read(ctx)
	if err != nil {
		return err
	}
	if there == nil { // somebody deleted it there
		s.row.RemoteID, s.row.There, s.row.Version = "", "", ""
		return s.sendOnce(ctx)
	}
	return s.change(ctx, targets, there)
}

// own looks for an account that was made for this person before, such as by a request whose answer was lost.
func (s *sending) own(ctx context.Context, external string) (scim.Resource, error) {
	found, err := s.look(ctx, s.able.users, fmt.Sprintf("externalId eq %q", external))
	if err != nil {
		return nil, err
	}
	for _, one := range found {
		if one.Text("externalId") != external {
			return nil, explain.New(explain.SCIMFilter, explain.Fact("account", nameOf(one))).Of(s.app.Name)
		}
	}
	switch len(found) {
	case 0:
		return nil, nil
	case 1:
		s.rec.Decide(trace.Decision{About: "account", Result: nameOf(found[0]), By: "it has the person's external identifier"})
		return found[0], nil
	}
	return nil, explain.New(explain.SCIMSeveral, explain.Fact("account", nameOf(found[0])+" and "+nameOf(found[1]))).Of(s.app.Name)
}

// nameOf is what an account is called by people.
func nameOf(r scim.Resource) string {
	for _, name := range []string{"userName", "displayName", "id"} {
		if v := r.Text(name); v != "" {
			return v
		}
	}
	return "one without a name"
}

// create makes an account. One that is there under the name already is not taken over.
func (s *sending) create(ctx context.Context, targets []scim.Target) error {
	r, err := s.ask(ctx, http.MethodPost, s.able.users.Endpoint, s.able.users.New(targets), "")
	if err != nil {
		return err
	}
	switch r.status {
	case http.StatusCreated, http.StatusOK:
	case http.StatusConflict:
		return s.taken(ctx, text(targets, "userName"), s.refused(r))
	case http.StatusNotFound:
		return explain.New(explain.SCIMNoService, explain.Fact("answer", "404 at "+s.app.Accounts.Address+"/Users")).Of(s.app.Name)
	default:
		return s.refused(r)
	}
	made, err := s.one(s.able.users, r)
	if err != nil {
		return err
	}
	if made == nil {
		return s.unreadable("it made an account and does not say which (RFC 7644, section 3.3)")
	}
	if err := s.ours(made, targets); err != nil {
		return err
	}
	s.result = "created"
	s.take(made)
	s.kept(targets, made, r)
	return nil
}

// taken finds out which account stands in the way.
func (s *sending) taken(ctx context.Context, userName string, why error) error {
	found, err := s.look(ctx, s.able.users, fmt.Sprintf("userName eq %q", userName))
	var stop *paused
	if errors.As(err, &stop) {
		return err
	}
	if err != nil || len(found) != 1 || !strings.EqualFold(found[0].Text("userName"), userName) {
		return why
	}
	if e := found[0].Text("externalId"); e != "" {
		return explain.New(explain.SCIMTaken, explain.Fact("account", userName+", with the external identifier "+e)).Of(s.app.Name)
	}
	s.take(found[0])
	return explain.New(explain.SCIMTaken, explain.Fact("account", userName)).Of(s.app.Name)
}

// ours holds an answer against what was sent: it must be about that very account.
func (s *sending) ours(got scim.Resource, targets []scim.Target) error {
	for _, name := range []string{"externalId", "userName"} {
		want, have := text(targets, name), got.Text(name)
		if want != "" && have != "" && !strings.EqualFold(want, have) {
			return explain.New(explain.SCIMOtherAccount, explain.Pair(name, want, have)).Of(s.app.Name)
		}
	}
	return nil
}

// read reads the account; nil where it is not there any more.
func (s *sending) read(ctx context.Context) (scim.Resource, error) {
	r, err := s.ask(ctx, http.MethodGet, at(s.able.users, s.row.RemoteID), nil, "")
	if err != nil {
		return nil, err
	}
	if r.status == http.StatusNotFound {
		return nil, nil
	}
	if r.status != http.StatusOK {
		return nil, s.refused(r)
	}
	got, err := s.one(s.able.users, r)
	if err != nil {
		return nil, err
	}
	if got == nil {
		return nil, s.unreadable("there is nothing in it")
	}
	if got.ID() != s.row.RemoteID {
		return nil, explain.New(explain.SCIMOtherAccount, explain.Pair("id", s.row.RemoteID, got.ID())).Of(s.app.Name)
	}
	if e := got.Text("externalId"); s.who != nil && e != "" && s.row.Sent != "" && e != s.row.WhoID && s.foreign(e) {
		return nil, explain.New(explain.SCIMOtherAccount, explain.Pair("externalId", s.row.WhoID, e)).Of(s.app.Name)
	}
	if s.row.Version = got.Version(); r.version != "" {
		s.row.Version = r.version
	}
	return got, nil
}

// foreign says whether an external identifier is another person's than the account's.
func (s *sending) foreign(external string) bool {
	targets, err := s.able.targets(s.app, s.who)
	return err == nil && text(targets, "externalId") != external
}

// take remembers which account there is this person's.
func (s *sending) take(r scim.Resource) {
	s.row.RemoteID, s.row.RemoteName, s.row.Version = r.ID(), nameOf(r), r.Version()
	s.row.There = thereOf(r)
}

func thereOf(r scim.Resource) string {
	if active, ok := r["active"].(bool); ok && !active {
		return "inactive"
	}
	return "active"
}

// kept notes what was made of the account, and what of it the application did not keep.
func (s *sending) kept(targets []scim.Target, got scim.Resource, r *reply) {
	if s.row.Version = got.Version(); r.version != "" {
		s.row.Version = r.version
	}
	s.row.RemoteName, s.row.There, s.row.Sent = nameOf(got), thereOf(got), short(targets)
	unkept := scim.Unkept(targets, got)
	if s.row.Unkept = ""; len(unkept) > 0 {
		s.row.Unkept = ground.MustJSON(unkept)
	}
}

// unkept are the paths that the application does not keep for this account, and left those that are its own from now on.
func unkept(row *store.KeptAccount) []string { return pathsIn(row.Unkept) }

func left(row *store.KeptAccount) []string { return pathsIn(row.Accepted) }

func pathsIn(text string) []string {
	list, err := ground.DecodeBody[[]string](orNull(text))
	if err != nil {
		return nil
	}
	return list
}

func orNull(text string) string {
	if text == "" {
		return "null"
	}
	return text
}

// change makes an account that is there what it should be.
func (s *sending) change(ctx context.Context, targets []scim.Target, there scim.Resource) error {
	ignored := left(s.row)
	if s.row.Sent == short(targets) { // otherwise something is new: it may be kept now
		ignored = append(ignored, unkept(s.row)...)
	}
	list := scim.Differences(targets, there, ignored)
	if len(list) == 0 {
		s.row.Sent, s.row.There, s.row.RemoteName = short(targets), thereOf(there), nameOf(there)
		s.result = "as it should be"
		return nil
	}
	got, r, err := s.write(ctx, targets, list, there)
	if err != nil {
		return err
	}
	s.result = "changed"
	if got == nil { // it says that it was done, and no more
		s.row.Sent, s.row.There, s.row.Version = short(targets), "active", ""
		if r.version != "" {
			s.row.Version = r.version
		}
		if scim.Value(targets, "active") == false {
			s.row.There = "inactive"
		}
		return nil
	}
	if got.ID() != s.row.RemoteID {
		return explain.New(explain.SCIMOtherAccount, explain.Pair("id", s.row.RemoteID, got.ID())).Of(s.app.Name)
	}
	if err := s.ours(got, targets); err != nil {
		return err
	}
	s.kept(targets, got, r)
	return nil
}

// write changes an account by PATCH, or puts it back whole where the application knows no PATCH.
func (s *sending) write(ctx context.Context, targets []scim.Target, list []scim.Difference, there scim.Resource) (
	scim.Resource, *reply, error,
) {
	method, body := http.MethodPut, s.able.users.Merged(targets, there)
	if s.able.Can.Patch {
		method, body = http.MethodPatch, scim.Changing(list, there)
	}
	r, err := s.ask(ctx, method, at(s.able.users, s.row.RemoteID), body, s.row.Version)
	if err != nil {
		return nil, nil, err
	}
	if r.status != http.StatusOK && r.status != http.StatusNoContent {
		return nil, nil, s.refused(r)
	}
	got, err := s.one(s.able.users, r)
	return got, r, err
}

// takeAway deactivates or deletes the account of somebody who is to have none.
func (s *sending) takeAway(ctx context.Context) error {
	if s.row.RemoteID == "" {
		there, err := s.own(ctx, s.external())
		if err != nil {
			return err
		}
		if there == nil {
			s.row.There, s.result = "", "there was none"
			return nil
		}
		s.take(there)
	}
	if s.row.Would == config.AccountDelete {
		return s.remove(ctx)
	}
	there, err := s.read(ctx)
	if err != nil {
		return err
	}
	if there == nil {
		s.row.RemoteID, s.row.There, s.result = "", "", "there was none"
		return nil
	}
	if err := s.change(ctx, inactive(s.able.users), there); err != nil {
		return err
	}
	if s.row.There == "active" {
		return explain.New(explain.SCIMUnkept, explain.Fact("path", "active")).Of(s.app.Name)
	}
	s.result = "deactivated"
	return nil
}

// external is the external identifier of the account, as far as it can still be said.
func (s *sending) external() string {
	if s.who != nil {
		if targets, err := s.able.targets(s.app, s.who); err == nil {
			return text(targets, "externalId")
		}
	}
	return s.row.WhoID
}

func (s *sending) remove(ctx context.Context) error {
	r, err := s.ask(ctx, http.MethodDelete, at(s.able.users, s.row.RemoteID), nil, s.row.Version)
	if err != nil {
		return err
	}
	switch r.status {
	case http.StatusNoContent, http.StatusOK, http.StatusNotFound, http.StatusGone, http.StatusAccepted:
		s.row.RemoteID, s.row.Version, s.row.There, s.row.Sent, s.result = "", "", "", "", "deleted"
		return nil
	case http.StatusPreconditionFailed:
		s.row.Version = ""
	}
	return s.refused(r)
}
