package config_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/config"
)

// TestPagesThatPeopleCanRead takes an operator's look only where it can be read, and says what is wrong with it.
func TestPagesThatPeopleCanRead(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		pages config.Pages
		wrong string
	}{
		"nothing":               {config.Pages{}, ""},
		"name and colour":       {config.Pages{Name: "Saltmere Ferries", Accent: "#7a1f3d"}, ""},
		"help and language":     {config.Pages{Help: "help@saltmere.example", Language: "de"}, ""},
		"a colour too light":    {config.Pages{Accent: "#ffd700"}, "can't be read on a light page"},
		"a colour by its name":  {config.Pages{Accent: "red"}, "#rrggbb"},
		"a style in the colour": {config.Pages{Accent: "#12525c;}body{"}, "#rrggbb"},
		"a mark from elsewhere": {config.Pages{Mark: "https://x.example/a.png"}, "data: address"},
		"a name of two lines":   {config.Pages{Name: "a\nb"}, "one line"},
		"markup as help":        {config.Pages{Help: "<b>us</b>"}, "one line"},
		"no language":           {config.Pages{Language: "../de"}, "no language"},
	} {
		err := c.pages.Validate()
		if c.wrong == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.wrong, name)
		}
	}
}

func TestAnAccentIsLightenedForDarkPages(t *testing.T) {
	t.Parallel()
	light, dark := config.Pages{Accent: "#12525C"}.Accents()
	assert.Equal(t, "#12525c", light)
	assert.NotEqual(t, light, dark)
	light, dark = config.Pages{}.Accents()
	assert.Empty(t, light+dark)
}

func TestHelpIsALinkWhereItCanBe(t *testing.T) {
	t.Parallel()
	for help, link := range map[string]string{
		"https://help.saltmere.example/": "https://help.saltmere.example/",
		"help@saltmere.example":          "mailto:help@saltmere.example",
		"extension 4711":                 "",
		"javascript:alert(1)":            "",
		"http://plain.example/":          "",
		"a@b.example?body=x":             "",
	} {
		assert.Equal(t, link, config.Pages{Help: help}.HelpLink(), help)
	}
}
