package config_test

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
)

func guardedBoard() config.Application {
	return config.Application{
		Slug:      "berth-board",
		Name:      "Berth Board",
		Kind:      config.KindGuarded,
		Reach:     access.Draft,
		Providers: []string{"saltmere-staff"},
		Guarded: &config.GuardedApplication{
			PublicURL: "https://berths.saltmere.example",
			Upstreams: []string{"http://10.20.0.7:8080"},
		},
		Subject: config.Subject{Source: "profile", From: "preferred_username"},
	}
}

// TestGuardedApplications lists what a guarded application may say, and what not.
func TestGuardedApplications(t *testing.T) {
	a := guardedBoard()
	a.Guarded.PublicURL, a.Guarded.Upstreams = "https://berths.saltmere.example/", []string{"http://10.20.0.7:8080/"}
	a.SAML = &config.SAMLApplication{EntityID: "x"}
	require.NoError(t, a.Validate())
	assert.Equal(t, "https://berths.saltmere.example", a.Identifier(), "a slash at the end is taken away: it is compared letter by letter")
	assert.Equal(t, []string{"http://10.20.0.7:8080"}, a.Guarded.Upstreams)
	assert.Equal(t, config.PassHeaders, a.Guarded.Pass)
	assert.Nil(t, a.SAML, "it speaks no SAML")
	assert.Equal(t, time.Minute, a.Guarded.Timeout())
	assert.Empty(t, a.Missing())

	for field, spoil := range map[string]func(g *config.GuardedApplication, a *config.Application){
		"guarded.publicUrl": func(g *config.GuardedApplication, _ *config.Application) {
			g.PublicURL = "https://berths.saltmere.example/path"
		},
		"guarded.upstreams[0]": func(g *config.GuardedApplication, _ *config.Application) { g.Upstreams = []string{"ftp://10.20.0.7"} },
		"guarded.upstreams[1]": func(g *config.GuardedApplication, _ *config.Application) {
			g.Upstreams = append(g.Upstreams, g.PublicURL)
		},
		"guarded.pass":        func(g *config.GuardedApplication, _ *config.Application) { g.Pass = "cookies" },
		"guarded.tokenHeader": func(g *config.GuardedApplication, _ *config.Application) { g.TokenHeader = "Cookie" },
		"mapping[0].set": func(_ *config.GuardedApplication, a *config.Application) {
			a.Mapping = claims.Mapping{{Set: "X User\r\nHost", From: claims.Names{"email"}}}
		},
		"guarded.timeoutSeconds": func(g *config.GuardedApplication, _ *config.Application) { g.TimeoutSeconds = 4000 },
		"guarded.signOutPath":    func(g *config.GuardedApplication, _ *config.Application) { g.SignOutPath = "leave" },
		"guarded.paths[0].path": func(g *config.GuardedApplication, _ *config.Application) {
			g.Paths = []config.PathRule{{Path: "/a%2fb", Then: config.PathOpen}}
		},
		"guarded.paths[0].then": func(g *config.GuardedApplication, _ *config.Application) {
			g.Paths = []config.PathRule{{Path: "/", Then: "maybe"}}
		},
		"guarded.paths[0].groups": func(g *config.GuardedApplication, _ *config.Application) {
			g.Paths = []config.PathRule{{Path: "/", Then: config.PathOpen, Groups: []string{"office"}}}
		},
		"guarded.paths[0].use": func(g *config.GuardedApplication, _ *config.Application) {
			g.Paths = []config.PathRule{{Path: "/", Then: config.PathRules}}
		},
		"guarded.trust[0].pem": func(g *config.GuardedApplication, _ *config.Application) {
			g.Trust = []config.Certificate{{PEM: "no certificate"}}
		},
		"tiles[0].picture": func(_ *config.GuardedApplication, a *config.Application) {
			a.Tiles = []config.Tile{{Picture: "https://x.example/a.png"}}
		},
		"tiles[0]": func(_ *config.GuardedApplication, a *config.Application) {
			a.Tiles = []config.Tile{{Name: strings.Repeat("x", 101)}}
		},
		"tiles": func(_ *config.GuardedApplication, a *config.Application) { a.Tiles = make([]config.Tile, 21) },
	} {
		a := guardedBoard()
		spoil(a.Guarded, &a)
		err := a.Validate()
		require.Error(t, err, field)
		assert.Contains(t, err.Error(), field)
	}
	a = guardedBoard()
	a.Guarded.Paths = []config.PathRule{{Path: "/", Methods: []string{"get"}, Then: config.PathOpen}}
	require.NoError(t, a.Validate())
	assert.Equal(t, []string{"GET"}, a.Guarded.Paths[0].Methods)
}

// TestWhatIsMissing tells what must be known before each kind of application can be opened.
func TestWhatIsMissing(t *testing.T) {
	a := guardedBoard()
	a.Guarded.PublicURL, a.Guarded.Upstreams, a.Providers = "", nil, nil
	assert.Equal(
		t,
		[]string{
			"the public address of the application is missing",
			"the inner address of the application is missing",
			"no provider is chosen for it",
		},
		a.Missing(),
	)
	link := config.Application{Slug: "tides", Name: "Tides", Kind: config.KindLink}
	assert.Equal(t, []string{"the address that the link leads to is missing"}, link.Missing())
	link.StartURL = "https://tides.example/"
	assert.Empty(t, link.Missing(), "a link needs no provider")
}

// TestPicturesAreWhatTheySay takes pictures only as what they are.
func TestPicturesAreWhatTheySay(t *testing.T) {
	data := func(kind string, raw string) string {
		return "data:" + kind + ";base64," + base64.StdEncoding.EncodeToString([]byte(raw))
	}
	png, gif := "\x89PNG\r\n\x1a\n\x00\x00", "GIF89a\x01\x00\x01\x00"
	assert.NoError(t, config.CheckPicture(data("image/png", png)))
	assert.NoError(t, config.CheckPicture(data("image/gif", gif)))
	for why, bad := range map[string]string{
		"is image/gif": data("image/png", gif), "32 KiB": data("image/png", png+strings.Repeat("x", 40<<10)),
		"not base64": "data:image/png;base64,***",
		"in base64":  data("image/svg+xml", "<svg onload=alert(1)>"), "is text/html": data("image/png", "<html><script>"),
		"a data: address": "image/png;base64,AAAA",
	} {
		assert.ErrorContains(t, config.CheckPicture(bad), why)
	}
}
