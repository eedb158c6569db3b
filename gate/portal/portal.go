package portal

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
)

// PortalTile is one tile on a person's page.
type PortalTile struct {
	Application       string // short name
	Number            int    // of the application's tiles
	Name, Description string
	Picture, Letter   string
	Start             string
	Favourite         bool
	last              time.Time
}

// Portal is a person's page.
type Portal struct {
	Person, Search string
	Recent, Tiles  []PortalTile
	All            int
	Marks          bool // whether favourites can be kept
	Next           *signin.Next
}

const recentTiles = 3

// Portal makes the page of whoever a browser's session is of; without one it begins a sign-in.
func (g *Room) Portal(ctx context.Context, b signin.Browser, search string) (*Portal, error) {
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil {
		return nil, err
	}
	if h == nil {
		return &Portal{Next: g.enterPortal(ctx, b, "")}, nil
	}
	tiles, err := g.tilesOf(ctx, h, b.Address)
	if err != nil {
		return nil, err
	}
	out := &Portal{Person: h.Person, Search: words.Clip(strings.TrimSpace(search), 100), All: len(tiles), Marks: h.PersonID != ""}
	for _, t := range tiles {
		if q := strings.ToLower(out.Search); q == "" || strings.Contains(strings.ToLower(t.Name+"\n"+t.Description), q) {
			out.Tiles = append(out.Tiles, t)
		}
	}
	if out.Search == "" && len(tiles) > 2*recentTiles {
		recent := slices.DeleteFunc(slices.Clone(tiles), func(t PortalTile) bool { return t.last.IsZero() || t.Number > 0 })
		slices.SortFunc(recent, func(a, b PortalTile) int { return b.last.Compare(a.last) })
		out.Recent = recent[:min(recentTiles, len(recent))]
	}
	return out, nil
}

// enterPortal begins a sign-in that ends on a page of the gate's own. Where nobody can sign in yet, there is only the
// console to go to.
func (g *Room) enterPortal(ctx context.Context, b signin.Browser, to string) *signin.Next {
	return g.signin.Walk(ctx, g.signin.Begin(b, "idp"), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		app, err := g.partners.PortalApplication(ctx)
		if err != nil {
			return nil, err
		}
		if len(app.Providers) == 0 {
			return &signin.Next{To: signin.Redirect(g.PublicURL + "/console/")}, nil
		}
		s.App, s.State.To = app, to
		s.Row.ApplicationID, s.Row.RequestID = app.ID, "portal:"+s.ID
		return nil, nil
	}, g.signin.Outward)
}

// asker is whom tiles are made for.
type asker struct {
	who    access.Who
	facts  access.Facts
	proofs map[string]bool // by provider's short name
}

func (g *Room) askerOf(ctx context.Context, h *sessions.HeldSession, address string) (*asker, error) {
	a := &asker{proofs: map[string]bool{}}
	a.facts = access.Facts{Person: h.PersonID, At: g.Now(), TwoFactor: !h.Body.Second.IsZero()}
	a.facts.Network, _ = netip.ParseAddr(address)
	profile := claims.Bag{}
	for id, p := range h.Body.Proofs {
		if held, err := g.partners.ProviderByID(ctx, id); err == nil {
			a.proofs[held.Slug] = true
		}
		a.facts.Received = append(a.facts.Received, p.Came["groups"]...)
		if h.PersonID == "" {
			profile, a.facts.Type = p.Profile, p.Kind
		}
	}
	if h.PersonID != "" {
		held, bag, err := g.persons.PersonByID(ctx, h.PersonID)
		if err != nil {
			return nil, err
		}
		profile = bag
		if a.facts.Groups, a.facts.Type, err = g.persons.Standing(ctx, held.ID); err != nil {
			return nil, err
		}
	}
	a.facts.Mail = profile.First(people.Mail)
	a.who = access.Who{
		Known:    true,
		ID:       h.PersonID,
		Username: profile.First(people.Username),
		Mail:     a.facts.Mail,
		Groups:   a.facts.Groups,
		Network:  a.facts.Network,
	}
	return a, nil
}

// mayUse asks reach and rules of an application, as a sign-in by one of its providers would.
func (g *Room) mayUse(ctx context.Context, app *partners.Application, a *asker) (bool, error) {
	if app.Reach.Admits(app.Circle, a.who, "application", app.Name, app.Slug, false) != nil {
		return false, nil
	}
	facts := a.facts
	facts.Provider = ""
	for _, slug := range app.Providers {
		p, err := g.partners.Provider(ctx, slug)
		if err != nil || p.Reach.Admits(p.Circle, a.who, "provider", p.Name, p.Slug, false) != nil {
			continue
		}
		if a.proofs[slug] || facts.Provider == "" {
			facts.Provider = slug
		}
	}
	if facts.Provider == "" && app.Kind != config.KindLink {
		return false, nil
	}
	var err error
	if facts.Assigned, err = g.partners.Assignments(ctx, app, a.facts.Person, facts.Groups); err != nil {
		return false, err
	}
	d := app.Policy.Decide(facts, false)
	return d.Result == access.Allow || d.Result == access.Stronger, nil
}

// tilesOf lists what a person may use: favourites first, then by name.
func (g *Room) tilesOf(ctx context.Context, h *sessions.HeldSession, address string) ([]PortalTile, error) {
	a, err := g.askerOf(ctx, h, address)
	if err != nil {
		return nil, err
	}
	var slugs []string
	if err := g.Store.Read(ctx).Model(&store.Application{}).Where("reach IN ?",
		[]string{string(access.Everyone), string(access.InCircle)}).Order("slug").Limit(2000).Pluck("slug", &slugs).Error; err != nil {
		return nil, store.Clear(err)
	}
	used, marks, err := g.usesAndMarks(ctx, h)
	if err != nil {
		return nil, err
	}
	var out []PortalTile
	for _, slug := range slugs {
		app, err := g.partners.Application(ctx, slug)
		if err != nil {
			return nil, err
		}
		if may, err := g.mayUse(ctx, app, a); err != nil || !may {
			if err != nil {
				return nil, err
			}
			continue
		}
		tiles := app.Tiles
		if len(tiles) == 0 {
			tiles = []config.Tile{{}}
		}
		for i, t := range tiles {
			if t.Hidden ||
				len(t.Groups) > 0 && !slices.ContainsFunc(t.Groups, func(one string) bool { return slices.Contains(a.who.Groups, one) }) {
				continue
			}
			x := PortalTile{
				Application: slug,
				Number:      i,
				Name:        cmp.Or(t.Name, app.Name),
				Description: cmp.Or(t.Description, app.Description),
				Start:       g.StartLocation(slug),
				Favourite:   marks[slotOf(app.ID, i)],
				last:        used[app.ID],
			}
			if t.To != "" {
				x.Start += "?" + url.Values{"to": {t.To}}.Encode()
			}
			if config.CheckPicture(t.Picture) == nil {
				x.Picture = t.Picture
			}
			for _, letter := range x.Name {
				x.Letter = strings.ToUpper(string(letter))
				break
			}
			out = append(out, x)
		}
	}
	slices.SortStableFunc(out, func(x, y PortalTile) int {
		if x.Favourite != y.Favourite {
			return map[bool]int{true: -1, false: 1}[x.Favourite]
		}
		return cmp.Compare(strings.ToLower(x.Name), strings.ToLower(y.Name))
	})
	return out, nil
}

func slotOf(id string, tile int) string { return fmt.Sprintf("%s/%d", id, tile) }

func (g *Room) usesAndMarks(ctx context.Context, h *sessions.HeldSession) (used map[string]time.Time, marked map[string]bool, err error) {
	used, marked = map[string]time.Time{}, map[string]bool{}
	var uses []store.SessionUse
	query := g.Store.Read(ctx).Where("session_id = ?", h.ID)
	if h.PersonID != "" {
		query = g.Store.Read(ctx).Where("session_id IN (SELECT id FROM sessions WHERE person_id = ?)", h.PersonID)
	}
	if err := query.Order("last_at DESC").Limit(500).Find(&uses).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	for _, u := range uses {
		if u.LastAt.After(used[u.ApplicationID]) {
			used[u.ApplicationID] = u.LastAt
		}
	}
	if h.PersonID == "" {
		return used, marked, nil
	}
	var rows []store.TileMark
	if err := g.Store.Read(ctx).Where("person_id = ?", h.PersonID).Limit(1000).Find(&rows).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	for _, r := range rows {
		marked[slotOf(r.ApplicationID, r.Tile)] = true
	}
	return used, marked, nil
}

// MarkTile puts a tile among a person's favourites, or takes it away from them.
func (g *Room) MarkTile(ctx context.Context, b signin.Browser, slug string, tile int, on bool) error {
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil || h == nil || h.PersonID == "" {
		return err
	}
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return err
	}
	if tile < 0 || tile >= max(1, len(app.Tiles)) {
		return ground.BadRequest("tile", "There is no such tile.", "")
	}
	row := store.TileMark{PersonID: h.PersonID, ApplicationID: app.ID, Tile: tile, At: g.Now().UTC()}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if !on {
			return tx.Delete(&row).Error
		}
		return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error
	})
}

// OwnAccount is what a person sees of themselves at the gate.
type OwnAccount struct {
	Person, Mail, Login string
	Sessions            []api.Session
	Providers           []string
	Credentials         []api.Credential // besides the password
	// Directories are those in which they can change a password here.
	Directories []OwnDirectory
	Next        *signin.Next
}

// OwnDirectory is a directory in which a person has a password, by short name and name.
type OwnDirectory struct{ Slug, Name string }

// OwnAccount makes a person's page about themselves; without a session it begins a sign-in.
func (g *Room) OwnAccount(ctx context.Context, b signin.Browser) (*OwnAccount, error) {
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil {
		return nil, err
	}
	if h == nil {
		return &OwnAccount{Next: g.enterPortal(ctx, b, g.PublicURL+"/account")}, nil
	}
	out := &OwnAccount{Person: h.Person}
	if out.Sessions, err = g.sessions.OwnSessions(ctx, h, b.Session); err != nil || h.PersonID == "" {
		return out, err
	}
	held, profile, err := g.persons.PersonByID(ctx, h.PersonID)
	if err != nil {
		return nil, err
	}
	if out.Mail = profile.First(people.Mail); held.Login != nil {
		out.Login = *held.Login
	}
	if err := g.Store.Read(ctx).Raw("SELECT DISTINCT p.name FROM links l JOIN providers p ON p.id = l.provider_id WHERE l.person_id = "+
		"? ORDER BY p.name LIMIT 100", h.PersonID).Scan(&out.Providers).Error; err != nil {
		return nil, store.Clear(err)
	}
	if out.Directories, err = g.directories(ctx, h.PersonID); err != nil {
		return nil, err
	}
	if out.Login != "" {
		out.Credentials, err = g.persons.CredentialViews(ctx, h.PersonID)
		out.Credentials = slices.DeleteFunc(out.Credentials, func(c api.Credential) bool { return c.Kind == "password" })
	}
	return out, err
}

// directories are those in which a person can change a password here, by short name and name.
func (g *Room) directories(ctx context.Context, person string) ([]OwnDirectory, error) {
	links, err := g.linked(ctx, person)
	var out []OwnDirectory
	for _, l := range links {
		p, err := g.partners.ProviderByID(ctx, l.ProviderID)
		if err == nil && p.LDAP != nil && p.LDAP.PasswordChange != "off" {
			out = append(out, OwnDirectory{p.Slug, p.Name})
		}
	}
	return out, err
}

func (g *Room) linked(ctx context.Context, person string) ([]store.Link, error) {
	var links []store.Link
	err := g.Store.Read(ctx).Where("person_id = ?", person).Order("id").Limit(100).Find(&links).Error
	return links, store.Clear(err)
}

// ChangeOwn changes the password that whoever a browser's session is of has in a directory. It says in words why it is not taken.
func (g *Room) ChangeOwn(ctx context.Context, b signin.Browser, slug, old, fresh, again string) (said string, err error) {
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil {
		return "", err
	}
	if h == nil || h.PersonID == "" {
		return "You are not signed in.", nil
	}
	links, err := g.linked(ctx, h.PersonID)
	if err != nil {
		return "", err
	}
	for _, l := range links {
		p, err := g.partners.ProviderByID(ctx, l.ProviderID)
		if err != nil || p.Slug != slug {
			continue
		}
		if said, err = g.ldap.OwnPassword(ctx, p, l.Subject, b.Address, old, fresh, again); err != nil || said != "" {
			return said, err
		}
		return "", g.Store.Write(ctx, func(tx *gorm.DB) error {
			return ground.Journal(tx, g.Now(), ground.Actor{ID: "person/" + h.PersonID, Name: h.Person, From: b.Address, Kind: "person"},
				"changed", "password", h.PersonID, h.Person, "", "in "+p.Name)
		})
	}
	return "The password can't be changed here.", nil
}

// freshEnough is how long ago somebody must have proven who they are to take a credential of theirs away.
const freshEnough = 10 * time.Minute

// RemoveOwn takes a passkey or second factor of whoever a browser's session is of away. All their sessions end, and the
// next sign-in asks for another where one is demanded.
func (g *Room) RemoveOwn(ctx context.Context, b signin.Browser, id string) error {
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil || h == nil || h.PersonID == "" {
		return err
	}
	fresh := false
	for provider, p := range h.Body.Proofs {
		held, err := g.partners.ProviderByID(ctx, provider)
		fresh = fresh || err == nil && held.Directory != nil && g.Now().Sub(p.Since()) < freshEnough
	}
	if !fresh {
		return ground.Problem(
			http.StatusForbidden, "not-fresh", "Please sign in anew first",
			"To take away what you sign in with, you must have signed in here within the last ten minutes.",
			"Sign out, sign in again, and come back to this page.",
		)
	}
	list, err := g.persons.CredentialViews(ctx, h.PersonID)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(c api.Credential) bool { return c.ID == id && (c.Kind == "totp" || c.Kind == "passkey") }) {
		return ground.NotFound("passkey or second factor", id)
	}
	return g.directory.RemoveCredential(ctx, ground.Actor{ID: "person/" + h.PersonID, Name: h.Person, From: b.Address, Kind: "person"},
		h.PersonID, id)
}

// EndOwn ends one of the sessions of whoever a browser's session is of, or all but this one.
func (g *Room) EndOwn(ctx context.Context, b signin.Browser, id string) error {
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil || h == nil {
		return err
	}
	list, err := g.sessions.OwnSessions(ctx, h, b.Session)
	if err != nil {
		return err
	}
	who := ground.Actor{ID: "person/" + h.PersonID, Name: h.Person, From: b.Address, Kind: "person"}
	for _, s := range list {
		if s.ID != id && (id != "others" || s.Here) {
			continue
		}
		if err := g.sessions.EndSessionByID(ctx, who, s.ID); err != nil {
			return err
		}
	}
	return nil
}
