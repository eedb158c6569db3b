package checkups

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/span"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/store"
)

const (
	lookEvery   = 6 * time.Hour
	lookFailing = 15 * time.Minute
	lookHistory = 60
	lookAtOnce  = 4
	tooSkewed   = 60 // seconds
)

// applicationOrigins are the hosts of an application that somebody is sent to or that we ask.
func applicationOrigins(a *config.Application) []string {
	list := []string{a.StartURL}
	if a.SAML != nil {
		for _, e := range a.SAML.ACS {
			list = append(list, e.Location)
		}
		list = append(list, a.SAML.Metadata.Place())
	}
	if a.OIDC != nil {
		list = append(list, a.OIDC.RedirectURIs...)
		list = append(list, a.OIDC.BackChannelLogout)
	}
	return origins(list)
}

func providerOrigins(p *config.Provider) []string {
	var list []string
	if p.SAML != nil {
		for _, e := range slices.Concat(p.SAML.SSO, p.SAML.Artifact) {
			list = append(list, e.Location)
		}
		list = append(list, p.SAML.Metadata.Place())
	}
	if p.OIDC != nil {
		list = append(list, p.OIDC.AuthorizationEndpoint, p.OIDC.TokenEndpoint, p.OIDC.UserInfoEndpoint, p.OIDC.KeysURL)
	}
	return origins(list)
}

// origins are the distinct scheme, host and port of http and https addresses. A program's own loopback address is
// nobody's host.
func origins(list []string) []string {
	var out []string
	for _, a := range list {
		if o := address.Origin(a); o != "" {
			out = append(out, o)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// watchOutside sees that the hosts of an object are looked at from now on. Drafts and programs on people's own machines
// are left alone.
func (g *Room) watchOutside(ctx context.Context, list []string) error {
	if len(list) == 0 {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, o := range list {
			if err := tx.Exec("INSERT INTO outside_hosts (origin, due_at, history, error, failures, millis, cert_name, cert_problem) "+
				"VALUES (?, ?, '[]', '', 0, 0, '', '') ON CONFLICT DO NOTHING", o, g.Now().UTC()).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// hostsOf are the hosts of an application as its configuration names them now, or none while it is a draft.
func hostsOf(a *config.Application) []string {
	if a.Reach == access.Draft || a.OIDC != nil && a.OIDC.Public() {
		return nil
	}
	return applicationOrigins(a)
}

// hostsOfProvider are those of a provider.
func hostsOfProvider(p *config.Provider) []string {
	if p.Reach == access.Draft {
		return nil
	}
	return providerOrigins(p)
}

// outsideFindings finds what is wrong with an object's hosts, as they were last looked at.
func (g *Room) outsideFindings(ctx context.Context, kind, id string, list []string) ([]checkup.Finding, error) {
	if err := g.noteUser(ctx, kind, id, list); err != nil || len(list) == 0 {
		return nil, err
	}
	var rows []store.OutsideHost
	if err := g.Store.Read(ctx).Where("origin IN ?", list).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	if len(rows) < len(list) {
		if err := g.watchOutside(ctx, list); err != nil {
			return nil, err
		}
	}
	station := checkup.ProviderTrust
	if kind == "application" {
		station = checkup.ApplicationTrust
	}
	var out []checkup.Finding
	for _, r := range rows {
		out = append(out, hostFindings(&r, station, g.Now())...)
	}
	return out, nil
}

// noteUser writes down which hosts an object has addresses at, where that has changed.
func (g *Room) noteUser(ctx context.Context, kind, id string, list []string) error {
	var held []string
	if err := g.Store.Read(ctx).Model(&store.OutsideUser{}).Where("owner_id = ?", id).Order("origin").Pluck("origin",
		&held).Error; err != nil {
		return store.Clear(err)
	}
	if slices.Equal(held, list) {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("owner_id = ?", id).Delete(&store.OutsideUser{}).Error; err != nil {
			return err
		}
		for _, o := range list {
			if err := tx.Create(&store.OutsideUser{Origin: o, OwnerKind: kind, OwnerID: id}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// hostFindings finds what is wrong with a host.
func hostFindings(r *store.OutsideHost, station string, now time.Time) []checkup.Finding {
	var out []checkup.Finding
	host := explain.Fact("host", r.Origin)
	if r.CertProblem != "" {
		out = append(
			out,
			checkup.Finding{
				Code:     "outside.tls-untrusted",
				Severity: checkup.Broken,
				Station:  station,
				Title:    "The TLS certificate of " + r.Origin + " is not trusted",
				Detail:   words.Capitalise(r.CertProblem) + ". Browsers warn people, and the gate fetches nothing from there.",
				Remedy:   "Ask the other side to serve a certificate that is valid for this name, with its chain.",
				Evidence: []trace.Evidence{host},
			},
		)
	} else if r.Failures >= 3 {
		out = append(out, checkup.Finding{Code: "outside.unreachable", Severity: checkup.Attention, Station: station,
			Title: r.Origin + " does not answer",
			Detail: fmt.Sprintf("%d looks failed since %s: %s.", r.Failures, r.FailingSince.UTC().Format(time.RFC3339),
				strings.TrimSuffix(r.Error, ".")),
			Remedy:   "Ask the other side whether the host moved. Where only people's browsers can reach it, accept this finding.",
			Evidence: []trace.Evidence{host, explain.Fact("reason", r.Error)}})
	}
	if r.CertEnds != nil {
		if days := int(math.Ceil(r.CertEnds.Sub(now).Hours() / 24)); days <= 30 {
			f := checkup.Finding{
				Code:     "outside.tls-ends",
				Severity: checkup.Attention,
				Station:  station,
				Title:    fmt.Sprintf("The TLS certificate of %s ends in %d days", r.Origin, days),
				Detail:   "After that browsers warn people, and the gate fetches nothing from there.",
				Remedy:   "Ask the other side whether its renewal works.",
				Evidence: []trace.Evidence{host, explain.Fact("ends", r.CertEnds.UTC().Format(time.RFC3339))},
			}
			if days <= 7 {
				f.Severity = checkup.Broken
			}
			out = append(out, f)
		}
	}
	if s := r.SkewSeconds; s != nil && (*s >= tooSkewed || *s <= -tooSkewed) {
		words, by := "ahead of", *s
		if by < 0 {
			words, by = "behind", -by
		}
		out = append(
			out,
			checkup.Finding{
				Code:     "outside.clock",
				Severity: checkup.Attention,
				Station:  station,
				Title:    fmt.Sprintf("The clock of %s is %s %s ours", r.Origin, span.Words(time.Duration(by)*time.Second), words),
				Detail:   "What it signs seems to come from another time, and may be refused as not valid yet, or any more.",
				Remedy:   "Ask the other side to set its clock by NTP; make sure that ours is.",
				Evidence: []trace.Evidence{host, explain.Fact("ahead by", fmt.Sprintf("%d s", *s))},
			},
		)
	}
	return out
}

// LookOutsideDue looks at the hosts whose turn it is, a few at a time.
func (g *Room) LookOutsideDue(ctx context.Context) error {
	var due []string
	if err := g.Store.Read(ctx).Model(&store.OutsideHost{}).Where("due_at <= ?", g.Now().UTC()).Order("due_at").Limit(40).Pluck("origin",
		&due).Error; err != nil {
		return store.Clear(err)
	}
	var wg sync.WaitGroup
	slots := make(chan struct{}, lookAtOnce)
	errs := make([]error, len(due))
	for i, o := range due {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			errs[i] = g.lookAt(ctx, o)
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

// lookAt asks a host for its first page's head: whether it answers, how fast, what its clock says, and until when its
// certificate is good.
func (g *Room) lookAt(ctx context.Context, o string) error {
	var row store.OutsideHost
	if err := g.Store.Read(ctx).Where("origin = ?", o).Take(&row).Error; err != nil {
		return store.Clear(err)
	}
	began := time.Now()
	got, err := g.Fetch.Do(ctx, fetch.Want{URL: o + "/", Head: true, Stay: true, AnyStatus: true, Timeout: 10 * time.Second})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	took, now := time.Since(began), g.Now().UTC()
	row.LookedAt, row.Millis, row.Error, row.CertProblem = &now, took.Milliseconds(), "", ""
	row.DueAt = now.Add(lookEvery + rand.N(lookEvery/6))
	if err != nil {
		row.Error = words.Clip(err.Error(), 300)
		if strings.Contains(row.Error, "certificate") {
			row.CertProblem = row.Error
		}
		row.Failures++
		if row.FailingSince == nil {
			row.FailingSince = &now
		}
		row.DueAt = now.Add(lookFailing)
		if strings.Contains(row.Error, fetch.ErrPrivate.Error()) { // that is the operator's choice
			row.Failures, row.FailingSince, row.DueAt = 0, nil, now.Add(lookEvery)
		}
	} else {
		row.Failures, row.FailingSince, row.ReachedAt = 0, nil, &now
		row.SkewSeconds = nil
		if !got.Date.IsZero() {
			// The header tells whole seconds, and was made at some moment of the request.
			skew := int64(got.Date.Add(500 * time.Millisecond).Sub(now.Add(-took / 2)).Round(time.Second).Seconds())
			row.SkewSeconds = &skew
		}
		if row.CertEnds, row.CertName = nil, ""; got.Certificate != nil {
			ends := got.Certificate.NotAfter.UTC()
			row.CertEnds, row.CertName = &ends, words.Clip(got.Certificate.Subject.CommonName, 200)
		}
	}
	var history []api.OutsideLook
	_ = json.Unmarshal([]byte(row.History), &history) // it was written by us
	history = append(history, api.OutsideLook{At: now, Millis: row.Millis, OK: err == nil})
	row.History = ground.MustJSON(history[max(0, len(history)-lookHistory):])
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Save(&row).Error })
}

// OutsideHosts lists partners' hosts, those with trouble first.
func (g *Room) OutsideHosts(ctx context.Context) (*api.List[api.OutsideHost], error) {
	var rows []store.OutsideHost
	const worstFirst = "failures DESC, CASE WHEN cert_ends IS NULL THEN 1 ELSE 0 END, cert_ends, origin"
	if err := g.Store.Read(ctx).Order(worstFirst).Limit(500).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.OutsideHost]{Items: []api.OutsideHost{}}
	for _, r := range rows {
		v := api.OutsideHost{
			Origin:      r.Origin,
			UsedBy:      []api.Reference{},
			Looked:      r.LookedAt,
			Reached:     r.ReachedAt,
			Error:       r.Error,
			Failures:    r.Failures,
			Millis:      r.Millis,
			SkewSeconds: r.SkewSeconds,
			CertEnds:    r.CertEnds,
			CertName:    r.CertName,
			History:     []api.OutsideLook{},
		}
		_ = json.Unmarshal([]byte(r.History), &v.History)
		for _, kind := range []string{"application", "provider"} {
			var users []struct{ Slug, Name, Reach string }
			const usedBy = "id IN (SELECT owner_id FROM outside_users WHERE origin = ? AND owner_kind = ? LIMIT 20)"
			if err := g.Store.Read(ctx).Table(kind+"s").Select("slug, name, reach").Where(usedBy, r.Origin,
				kind).Order("name").Find(&users).Error; err != nil {
				return nil, store.Clear(err)
			}
			for _, u := range users {
				v.UsedBy = append(v.UsedBy, api.Reference{Slug: u.Slug, Name: u.Name, Kind: kind, Reach: u.Reach})
			}
		}
		if len(v.UsedBy) > 0 {
			out.Items = append(out.Items, v)
		}
	}
	return out, nil
}

// LookOutside looks at one of the hosts now.
func (g *Room) LookOutside(ctx context.Context, o string) (*api.List[api.OutsideHost], error) {
	var row store.OutsideHost
	if err := g.Store.Read(ctx).Where("origin = ?", o).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "host", words.Clip(o, 200))
	}
	if err := g.lookAt(ctx, o); err != nil {
		return nil, err
	}
	return g.OutsideHosts(ctx)
}
