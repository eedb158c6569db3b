package configuration

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/store"
)

// SetRoutes replaces them, in one step.
func (g *Room) SetRoutes(ctx context.Context, who ground.Actor, r access.Routes) (*access.Routes, error) {
	before, err := g.partners.Routes(ctx)
	if err != nil {
		return nil, err
	}
	if err := r.Check(); err != nil {
		return nil, ground.BadRequest("routes", words.Capitalise(err.Error())+".", "Nothing was changed.")
	}
	if r.Rules == nil {
		r.Rules = []access.Route{}
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteRoutes(tx, who, before, r) })
	return &r, err
}

// WriteRoutes keeps routes whose providers, applications and groups are there.
func (g *Room) WriteRoutes(tx *gorm.DB, who ground.Actor, before *access.Routes, r access.Routes) error {
	open, err := partners.AnyOpen(tx)
	if err != nil {
		return err
	}
	if err := partners.OwnersWhereTwo(tx, who, "By which provider people come", open); err != nil {
		return err
	}
	var groups []string
	for i, one := range r.Rules {
		groups = append(groups, one.If.Groups...)
		for table, list := range map[string][]string{"providers": slices.Concat(one.To, one.If.Known, one.If.Wish),
			"applications": one.If.Applications} {
			for _, slug := range list {
				var n int64
				if err := tx.Table(table).Where("slug = ?", slug).Count(&n).Error; err != nil {
					return err
				}
				if n == 0 {
					return ground.BadRequest(
						"routes",
						fmt.Sprintf("Route %d names %q, and there is no such %s.", i+1, slug, strings.TrimSuffix(table, "s")),
						"Add it first, or choose one that is there.",
					)
				}
			}
		}
	}
	if err := persons.KnownGroups(tx, groups); err != nil {
		return err
	}
	return g.WriteSetting(tx, who, partners.SettingRoutes, "routes", before, r)
}

// RouteFindings finds routes that lead nowhere, are never reached, or trust a domain that anybody can have.
func (g *Room) RouteFindings(ctx context.Context) ([]checkup.Finding, error) {
	routes, err := g.partners.Routes(ctx)
	if err != nil {
		return nil, err
	}
	var out []checkup.Finding
	for i := range routes.Rules {
		one := &routes.Rules[i]
		name := fmt.Sprintf("Route %d", i+1)
		if one.Name != "" {
			name += " (" + one.Name + ")"
		}
		fact := explain.Fact("route", name)
		for j := range routes.Rules[:i] {
			if routes.Rules[j].Covers(one) {
				out = append(
					out,
					checkup.Finding{
						Code:     "route.never",
						Severity: checkup.Attention,
						Station:  checkup.Access,
						Title:    name + " is never reached",
						Detail:   fmt.Sprintf("Whoever fits it fits route %d before it.", j+1),
						Remedy:   "Put it before that one, or take it away.",
						Evidence: []trace.Evidence{fact},
					},
				)
				break
			}
		}
		usable := false
		for _, slug := range one.To {
			p, err := g.partners.Provider(ctx, slug)
			if err != nil || p.Reach != access.Everyone && p.Reach != access.InCircle {
				continue
			}
			var n int64
			db := partners.UsedBy(g.Store.Read(ctx).Model(&store.Application{}), slug)
			if len(one.If.Applications) > 0 {
				db = db.Where("slug IN ?", one.If.Applications)
			}
			if err := db.Limit(1).Count(&n).Error; err != nil {
				return nil, store.Clear(err)
			}
			usable = usable || n > 0
		}
		if !usable {
			out = append(
				out,
				checkup.Finding{
					Code:     "route.nowhere",
					Severity: checkup.Broken,
					Station:  checkup.Access,
					Title:    name + " leads nowhere",
					Detail:   "None of its providers is open and serves an application that it is for: " + strings.Join(one.To, ", ") + ".",
					Remedy:   "Open the provider, give it to the application, or take the route away.",
					Evidence: []trace.Evidence{fact},
				},
			)
		}
		for _, d := range one.If.MailDomains {
			if address.PublicDomain(d) {
				out = append(
					out,
					checkup.Finding{
						Code:     "route.public-domain",
						Severity: checkup.Attention,
						Station:  checkup.Access,
						Title:    name + " routes a public mail domain",
						Detail: "By its look, anybody can have an address at " + d + "; all of them are sent to " + strings.Join(
							one.To, " or ",
						) + ".",
						Remedy:   "If that is meant, accept this finding with the reason. Otherwise take the domain away.",
						Evidence: []trace.Evidence{explain.Fact("mail domain", d)},
					},
				)
			}
		}
		if len(one.To) > 1 && len(one.If.MailDomains) > 0 {
			out = append(
				out,
				checkup.Finding{
					Code:     "route.two-for-domain",
					Severity: checkup.Remark,
					Station:  checkup.Access,
					Title:    name + " leads to several providers for one mail domain",
					Detail:   "People choose between " + strings.Join(one.To, " and ") + "; their names must tell which is whose.",
					Remedy:   "If everybody of the domain has one provider, name only that.",
					Evidence: []trace.Evidence{fact},
				},
			)
		}
	}
	return out, nil
}
