package demo

import (
	"context"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/saml"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/standin"
	"innergate/store"
)

// person is one of the people of Saltmere Ferries.
type person struct {
	user, given, family, mail, role string
	groups                          []string
}

const (
	crew   = "ferry-crew"
	purser = "ferry-purser"
	bridge = "ferry-bridge"
	office = "ferry-office"
	quay   = "ferry-quay"
	all    = "staff"
)

// people are two dozen, some with letters beyond ASCII, one without a mail address, two whose addresses differ only in
// case.
var people = []person{
	{"mvoss", "Mira", "Voss", "mira.voss@saltmere.example", "purser", []string{all, crew, purser}},
	{"jhale", "Jonas", "Hale", "jonas.hale@saltmere.example", "skipper", []string{all, crew, bridge}},
	{"zoberg", "Zoë", "Öberg", "zoe.oberg@saltmere.example", "deckhand", []string{all, crew}},
	{"tkerr", "Tamsin", "Kerr", "tamsin.kerr@saltmere.example", "harbour master", []string{all, office, quay}},
	{"rpike", "Rowan", "Pike", "rowan.pike@saltmere.example", "deckhand", []string{all, crew}},
	{"sito", "咲良", "伊藤", "sakura.ito@saltmere.example", "clerk", []string{all, office}},
	{"dmarlow", "Dele", "Marlow", "dele.marlow@saltmere.example", "skipper", []string{all, crew, bridge}},
	{"abrandt", "Anneke", "Brandt", "anneke.brandt@saltmere.example", "purser", []string{all, crew, purser}},
	{"fosei", "Femi", "Osei", "femi.osei@saltmere.example", "deckhand", []string{all, crew}},
	{"lquill", "Lorna", "Quill", "lorna.quill@saltmere.example", "clerk", []string{all, office}},
	{"nstrand", "Nils", "Strand", "nils.strand@saltmere.example", "engineer", []string{all, crew}},
	{"ivale", "Iris", "Vale", "", "deckhand", []string{all, crew}},
	{"cdunn", "Callum", "Dunn", "c.dunn@saltmere.example", "deckhand", []string{all, crew}},
	{"cdunne", "Clodagh", "Dunn", "C.Dunn@saltmere.example", "clerk", []string{all, office}},
	{"gfell", "Gwen", "Fell", "gwen.fell@saltmere.example", "skipper", []string{all, crew, bridge}},
	{"bmoss", "Bram", "Moss", "bram.moss@saltmere.example", "deckhand", []string{all, crew}},
	{"hsaar", "Heli", "Säär", "heli.saar@saltmere.example", "purser", []string{all, crew, purser}},
	{"pwick", "Poppy", "Wick", "poppy.wick@saltmere.example", "clerk", []string{all, office}},
	{"otarn", "Otis", "Tarn", "otis.tarn@saltmere.example", "stevedore", []string{all, quay}},
	{"ebeck", "Edda", "Beck", "edda.beck@saltmere.example", "stevedore", []string{all, quay}},
	{"vlund", "Vera", "Lund", "vera.lund@saltmere.example", "engineer", []string{all, crew}},
	{"kshaw", "Kit", "Shaw", "kit.shaw@saltmere.example", "deckhand", []string{all, crew}},
	{"ymoor", "Yusuf", "Moor", "yusuf.moor@saltmere.example", "harbour master", []string{all, office, quay}},
	{"wpenn", "Wynn", "Penn", "wynn.penn@saltmere.example", "deckhand", []string{all, crew}},
}

// staff lists the people as Saltmere Staff sends them, with OID-named attributes.
func staff() []standin.Person {
	var out []standin.Person
	for _, p := range people {
		x := standin.Person{ID: p.user, Name: p.given + " " + p.family, Role: p.role}
		add := func(oid, friendly string, values ...string) {
			if values[0] != "" {
				x.Attributes = append(
					x.Attributes,
					saml.Attribute{Name: "urn:oid:" + oid, FriendlyName: friendly, NameFormat: saml.NameFormatURI, Values: values},
				)
			}
		}
		add("0.9.2342.19200300.100.1.1", "uid", p.user)
		add("0.9.2342.19200300.100.1.3", "mail", p.mail)
		add("2.5.4.42", "givenName", p.given)
		add("2.5.4.4", "sn", p.family)
		add("2.16.840.1.113730.3.1.241", "displayName", p.given+" "+p.family)
		add("1.3.6.1.4.1.5923.1.5.1.1", "isMemberOf", p.groups...)
		out = append(out, x)
	}
	return out
}

// harbours are the members of the made-up federation.
func harbours() []standin.Member {
	var out []standin.Member
	for i, name := range []string{"Amberport", "Birchmouth", "Coldhaven", "Dunmere", "Eastquay", "Farrow Sands", "Gullstone", "Heronsea",
		"Islay Cross", "Jettyfield", "Kelpwick", "Larkwater"} {
		host := strings.ToLower(strings.ReplaceAll(name, " ", "-")) + ".harbours.example"
		out = append(out, standin.Member{EntityID: "https://" + host + "/berths", Name: name + " Berth Booking", Kind: saml.RoleSP})
		if i%3 == 0 {
			out = append(out, standin.Member{EntityID: "https://id." + host, Name: name + " Harbour Office", Kind: saml.RoleIDP})
		}
	}
	return out
}

// stevedores are the people of Northquay Stevedores, a partner.
func stevedores() []standin.Person {
	var out []standin.Person
	for _, p := range []person{
		{"ivo.tamm", "Ivo", "Tamm", "ivo.tamm@northquay.example", "foreman", []string{"quay-crane", "quay-lead"}},
		{"lene.aas", "Lene", "Ås", "lene.aas@northquay.example", "crane driver", []string{"quay-crane"}},
		{"paul.okoro", "Paul", "Okoro", "paul.okoro@northquay.example", "tally clerk", []string{"quay-tally"}},
	} {
		out = append(
			out,
			standin.Person{
				ID:   p.user,
				Name: p.given + " " + p.family,
				Role: p.role,
				Claims: map[string]any{
					"given_name":     p.given,
					"family_name":    p.family,
					"email":          p.mail,
					"email_verified": true,
					"roles":          p.groups,
				},
			},
		)
	}
	return out
}

// skippers of an agency are people of the gate's own directory.
var skippers = []person{
	{"runa.holt", "Runa", "Holt", "runa.holt@agency.example", "skipper", []string{"crew", "bridge"}},
	{"eskil.brae", "Eskil", "Brae", "eskil.brae@agency.example", "skipper", []string{"crew", "bridge"}},
}

// AgencyPassword is the first password of the agency's skippers.
func (w *World) AgencyPassword() string { return w.Password + " agency" }

// agency adds the skippers, if they are not there yet, with a password that they set by a link as anybody would.
func (w *World) agency(ctx context.Context) error {
	for _, p := range skippers {
		list, err := w.Gate.Persons.People(ctx, store.Page{Search: p.user}, persons.PersonFilter{})
		if err != nil {
			return err
		}
		if len(list.Items) > 0 {
			continue
		}
		made, err := w.Gate.Persons.SavePerson(
			ctx,
			ground.System,
			"",
			api.SavePerson{
				Type:   "partner",
				Login:  &p.user,
				Groups: &p.groups,
				Profile: claims.Bag{
					"preferred_username": {p.user},
					"given_name":         {p.given},
					"family_name":        {p.family},
					"name":               {p.given + " " + p.family},
					"email":              {p.mail},
					"title":              {p.role},
				},
			},
		)
		if err != nil {
			return err
		}
		link, err := w.Gate.Directory.NewPersonLink(ctx, ground.System, made.ID)
		if err != nil {
			return err
		}
		token := link.Link[strings.LastIndexByte(link.Link, '/')+1:]
		if err := w.Gate.Directory.SetPassword(ctx, token, w.AgencyPassword(), w.AgencyPassword()); err != nil {
			return err
		}
	}
	return nil
}

// travellers hold season tickets and sign in with Lantern Pass.
func travellers() []standin.Person {
	var out []standin.Person
	for _, p := range []person{{"70012", "Asta", "Norr", "asta.norr@post.example", "season ticket", nil},
		{"70047", "Henk", "Mole", "henk.mole@post.example", "season ticket", nil}} {
		out = append(out, standin.Person{ID: p.user, Name: p.given + " " + p.family, Role: p.role, Claims: map[string]any{"email": p.mail}})
	}
	return out
}
