package accounts

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/scim"
	"innergate/store"
)

// How many members go in one request.
const (
	addedAtOnce   = 500
	removedAtOnce = 100
)

// sendGroup makes a group there what it should be, with those of its members who have an account there.
func (s *sending) sendGroup(ctx context.Context) error {
	err := s.groupOnce(ctx)
	var stop *paused
	if errors.As(err, &stop) {
		return err
	}
	s.settle(err)
	return nil
}

func (s *sending) groupOnce(ctx context.Context) error {
	if s.row.RemoteID == "" {
		there, err := s.ownGroup(ctx)
		if err != nil {
			return err
		}
		if there != nil {
			s.take(there)
		}
	}
	if !s.row.Wanted {
		return s.takeGroupAway(ctx)
	}
	members, err := s.members(ctx)
	if err != nil {
		return err
	}
	if s.row.RemoteID == "" {
		return s.createGroup(ctx, members)
	}
	there, err := s.readGroup(ctx)
	if err != nil {
		return err
	}
	if there == nil {
		s.row.RemoteID, s.row.There = "", ""
		return s.createGroup(ctx, members)
	}
	return s.changeGroup(ctx, there, members)
}

// ownGroup looks for the group there, by our identifier or by its name. One of the same name that is not known to be ours waits for
// somebody to say so.
func (s *sending) ownGroup(ctx context.Context) (scim.Resource, error) {
	found, err := s.look(ctx, scim.Groups, fmt.Sprintf("externalId eq %q", s.row.WhoID))
	if err != nil {
		var stop *paused
		if errors.As(err, &stop) {
			return nil, err
		}
		found = nil // many know groups by their names alone
	}
	for _, one := range found {
		if one.Text("externalId") == s.row.WhoID {
			return one, nil
		}
	}
	if found, err = s.look(ctx, scim.Groups, fmt.Sprintf("displayName eq %q", s.row.Name)); err != nil {
		return nil, err
	}
	found = slices.DeleteFunc(found, func(r scim.Resource) bool { return r.Text("displayName") != s.row.Name })
	switch {
	case len(found) == 0:
		return nil, nil
	case len(found) > 1:
		return nil, explain.New(explain.SCIMSeveral, explain.Fact("group", s.row.Name)).Of(s.app.Name)
	case found[0].Text("externalId") != "":
		return nil, explain.New(explain.SCIMTaken, explain.Fact("group", s.row.Name+", with another external identifier")).Of(s.app.Name)
	}
	if s.row.Approved || s.app.Accounts.Approve == config.ApproveNone {
		return found[0], nil
	}
	s.take(found[0])
	return nil, explain.New(explain.SCIMTaken, explain.Fact("group", s.row.Name)).Of(s.app.Name)
}

// members are the identifiers there of those who are in the group and have an account.
func (s *sending) members(ctx context.Context) ([]string, error) {
	var ids []string
	err := s.Store.Read(ctx).Raw("SELECT DISTINCT k.remote_id FROM memberships m JOIN kept_accounts k ON k.application_id = ? AND "+
		"k.kind = 'person' AND k.who_id = m.person_id WHERE m.group_id = ? AND k.wanted AND k.remote_id <> '' AND k.state <> 'ignored' "+
		"AND k.there = 'active' ORDER BY k.remote_id", s.app.ID, s.row.WhoID).Scan(&ids).Error
	return ids, store.Clear(err)
}

func (s *sending) createGroup(ctx context.Context, members []string) error {
	body := scim.Resource{"schemas": []any{scim.GroupSchema}, "displayName": s.row.Name, "externalId": s.row.WhoID}
	first := members[:min(len(members), addedAtOnce)]
	if !s.able.Can.Patch {
		first = members // it goes on by putting it back whole
	}
	if len(first) > 0 {
		body["members"] = memberValues(first)
	}
	r, err := s.ask(ctx, http.MethodPost, scim.Groups.Endpoint, body, "")
	if err != nil {
		return err
	}
	if r.status != http.StatusCreated && r.status != http.StatusOK {
		return s.refused(r)
	}
	made, err := s.one(scim.Groups, r)
	if err != nil {
		return err
	}
	if made == nil {
		return s.unreadable("it made a group and does not say which")
	}
	s.take(made)
	s.result = "created"
	return s.patchMembers(ctx, members[len(first):], nil)
}

func memberValues(ids []string) []any {
	var out []any
	for _, id := range ids {
		out = append(out, map[string]any{"value": id})
	}
	return out
}

func (s *sending) readGroup(ctx context.Context) (scim.Resource, error) {
	r, err := s.ask(ctx, http.MethodGet, at(scim.Groups, s.row.RemoteID), nil, "")
	if err != nil {
		return nil, err
	}
	if r.status == http.StatusNotFound {
		return nil, nil
	}
	if r.status != http.StatusOK {
		return nil, s.refused(r)
	}
	got, err := s.one(scim.Groups, r)
	if err != nil {
		return nil, err
	}
	if got == nil || got.ID() != s.row.RemoteID {
		return nil, explain.New(explain.SCIMOtherAccount, explain.Pair("id", s.row.RemoteID, got.ID())).Of(s.app.Name)
	}
	if s.row.Version = got.Version(); r.version != "" {
		s.row.Version = r.version
	}
	return got, nil
}

// memberIDs are the identifiers of a group's members.
func memberIDs(r scim.Resource) []string {
	list, _ := r["members"].([]any)
	var out []string
	for _, v := range list {
		o, _ := v.(map[string]any)
		if id, ok := o["value"].(string); ok {
			out = append(out, id)
		}
	}
	return out
}

func (s *sending) changeGroup(ctx context.Context, there scim.Resource, members []string) error {
	held := memberIDs(there)
	in, want := setOf(held), setOf(members)
	var add, remove []string
	for _, id := range members {
		if !in[id] {
			add = append(add, id)
		}
	}
	for _, id := range held {
		if !want[id] {
			remove = append(remove, id)
		}
	}
	s.row.There, s.row.RemoteName = "active", nameOf(there)
	named := there.Text("displayName") == s.row.Name
	if named && len(add)+len(remove) == 0 {
		s.result = "as it should be"
		return nil
	}
	s.result = fmt.Sprintf("changed: %d members added, %d taken out", len(add), len(remove))
	if !s.able.Can.Patch {
		body := there.Clone()
		delete(body, "meta")
		body["schemas"], body["displayName"], body["externalId"] = []any{scim.GroupSchema}, s.row.Name, s.row.WhoID
		body["members"] = memberValues(members)
		return s.groupWritten(s.ask(ctx, http.MethodPut, at(scim.Groups, s.row.RemoteID), body, s.row.Version))
	}
	if !named {
		rename := scim.PatchOf(map[string]any{"op": scim.Replace, "path": "displayName", "value": s.row.Name})
		if err := s.groupWritten(s.ask(ctx, http.MethodPatch, at(scim.Groups, s.row.RemoteID), rename, s.row.Version)); err != nil {
			return err
		}
		s.row.RemoteName = s.row.Name
	}
	return s.patchMembers(ctx, add, remove)
}

func setOf(list []string) map[string]bool {
	out := make(map[string]bool, len(list))
	for _, v := range list {
		out[v] = true
	}
	return out
}

// patchMembers adds and takes out members, some at a time.
func (s *sending) patchMembers(ctx context.Context, add, remove []string) error {
	for _, one := range []struct {
		op   string
		ids  []string
		most int
	}{{scim.Add, add, addedAtOnce}, {scim.Delete, remove, removedAtOnce}} {
		for part := range slices.Chunk(one.ids, one.most) {
			body := scim.PatchOf(scim.MemberOperation(one.op, part)...)
			if err := s.groupWritten(s.ask(ctx, http.MethodPatch, at(scim.Groups, s.row.RemoteID), body, "")); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *sending) groupWritten(r *reply, err error) error {
	if err != nil {
		return err
	}
	if r.status != http.StatusOK && r.status != http.StatusNoContent {
		return s.refused(r)
	}
	s.row.Version = r.version
	return nil
}

// takeGroupAway deletes a group that no longer goes along, or empties it where accounts are not deleted.
func (s *sending) takeGroupAway(ctx context.Context) error {
	if s.row.RemoteID == "" {
		s.row.There, s.result = "", "there was none"
		return nil
	}
	if s.row.Would == config.AccountDelete {
		r, err := s.ask(ctx, http.MethodDelete, at(scim.Groups, s.row.RemoteID), nil, "")
		if err != nil {
			return err
		}
		if r.status >= 300 && r.status != http.StatusNotFound {
			return s.refused(r)
		}
		s.row.RemoteID, s.row.There, s.result = "", "", "deleted"
		return nil
	}
	there, err := s.readGroup(ctx)
	if err != nil {
		return err
	}
	if there == nil {
		s.row.RemoteID, s.row.There, s.result = "", "", "there was none"
		return nil
	}
	if err := s.changeGroup(ctx, there, nil); err != nil {
		return err
	}
	s.row.There, s.result = "inactive", "emptied"
	return nil
}
