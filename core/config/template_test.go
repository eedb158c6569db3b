package config_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/saml"
)

func TestShippedTemplatesCanBeStarted(t *testing.T) {
	list := config.ShippedTemplates()
	require.GreaterOrEqual(t, len(list), 6)
	for _, tpl := range list {
		t.Run(tpl.Slug, func(t *testing.T) {
			require.NoError(t, tpl.Validate())
			values := map[string]string{}
			for _, b := range tpl.Blanks {
				assert.NotEmpty(t, b.Hint)
				values[b.Name] = b.Sample
			}
			a, p, err := tpl.Fill(values)
			require.NoError(t, err)
			var steps []string
			if a != nil {
				a.Slug, a.Name = "x", "X"
				require.NoError(t, a.Validate())
				steps = a.Steps
			} else {
				p.Slug, p.Name = "x", "X"
				require.NoError(t, p.Validate())
				steps = p.Steps
			}
			require.NotEmpty(t, steps)
			for _, s := range steps {
				assert.NotContains(t, strings.NewReplacer("{{our.", "").Replace(s), "{{")
			}
		})
	}
}

func TestFillTellsWhatIsMissing(t *testing.T) {
	var pairs config.Template
	for _, tpl := range config.ShippedTemplates() {
		if tpl.Slug == "role-pairs" {
			pairs = tpl
		}
	}
	_, _, err := pairs.Fill(map[string]string{"account": " 1", "other": "x"})
	require.Error(t, err)
	for _, says := range []string{"values.us: it is missing", "values.group: it is missing", "white space", "no such blank"} {
		assert.ErrorContains(t, err, says)
	}
	a, _, err := pairs.Fill(map[string]string{"account": `4"7`, "us": "gate", "group": "ledger-"})
	require.NoError(t, err)
	assert.Contains(t, a.Mapping[0].Steps[2].String(), `account:4"7:role/`, "a value can't leave its place")
}

func TestTemplateOfAConnection(t *testing.T) {
	a := &config.Application{
		Slug:     "rota",
		Name:     "Crew Rota",
		Kind:     "saml",
		Reach:    access.Everyone,
		StartURL: "https://app.example/start/4711",
		Steps:    []string{"Open customer 4711."},
		SAML: &config.SAMLApplication{
			EntityID: "https://app.example/saml/4711",
			ACS:      []saml.Endpoint{{Binding: saml.BindingPost, Location: "https://app.example/saml/4711/acs"}},
			Metadata: &config.Watch{URL: "https://app.example/md"},
		},
	}
	require.NoError(t, (&config.Application{Slug: "x", Name: "x"}).Validate())
	tpl, err := config.NewTemplate("Harbour App", a, nil, []config.Blank{{Name: "number", Hint: "the customer's number", Sample: "4711"}})
	require.NoError(t, err)
	assert.Equal(t, "https://app.example/saml/{{number}}", tpl.Application.SAML.EntityID)
	assert.Nil(t, tpl.Application.SAML.Metadata)
	made, _, err := tpl.Fill(map[string]string{"number": "12"})
	require.NoError(t, err)
	assert.Equal(t, "https://app.example/saml/12/acs", made.SAML.ACS[0].Location)
	assert.Equal(t, []string{"Open customer 12."}, made.Steps)
	assert.Equal(t, access.Draft, made.Reach)
	_, err = config.NewTemplate("Harbour App", a, nil, []config.Blank{{Name: "number", Sample: "815"}})
	assert.ErrorContains(t, err, "stands nowhere")
}

func TestSourcesAndWatches(t *testing.T) {
	for says, s := range map[string]config.Source{
		"the address is missing":         {Slug: "h", Name: "Harbours"},
		"anybody on the way":             {Slug: "h", Name: "Harbours", URL: "https://md.harbours.example/all.xml"},
		"has no address":                 {Slug: "h", Name: "Harbours", Kind: "file", URL: "https://md.harbours.example/all.xml"},
		"can't be chosen":                {Slug: "h", Name: "Harbours", Kind: "pigeon", URL: "https://x.example"},
		"between 5 minutes and a week":   {Slug: "h", Name: "Harbours", Kind: "file", EveryMinutes: 1},
		"no certificate in PEM":          {Slug: "h", Name: "Harbours", Kind: "file", Certificate: "x"},
		"lacks its beginning":            {Slug: "h", Name: "Harbours", URL: "md.harbours.example"},
		"can't stand in addresses; use ": {Slug: "H H", Name: "Harbours", Kind: "file"},
	} {
		assert.ErrorContains(t, s.Validate(), says)
	}
	w := &config.Watch{URL: "https://x.example"}
	assert.Equal(t, "ask", w.Effective(), "keys from unsigned metadata ask")
	w.Certificate = "pinned"
	assert.Equal(t, "certificates", w.Effective())
	assert.Equal(t, "source:harbours", (&config.Watch{Source: "harbours"}).Place())
	assert.Equal(t, "", (*config.Watch)(nil).Place())
	a := config.Application{
		Slug: "x",
		Name: "X",
		SAML: &config.SAMLApplication{Metadata: &config.Watch{URL: "https://x.example", Source: "harbours", Policy: "sometimes"}},
	}
	err := a.Validate()
	assert.ErrorContains(t, err, "not from both")
	assert.ErrorContains(t, err, "saml.metadata.policy")
}
