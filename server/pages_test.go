package server_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/server"
)

const dot = "data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNkYPhfDwAChwGA60e6kgAAAABJRU5ErkJggg=="

// pageIn reads a page for people as a browser that asks for a language.
func pageIn(t *testing.T, address, language string) (string, http.Header) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), "GET", address, nil)
	require.NoError(t, err)
	req.Header.Set("Accept-Language", language)
	answer, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(body), answer.Header
}

// TestPagesLookAsTheOperatorSays sets name, mark, colour, help and language, and reads them off a page; what can't be
// read or could carry a script is refused, and only an owner may say it.
func TestPagesLookAsTheOperatorSays(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	address := w.URL + "/start/nobody-knows-it"
	before, header := pageIn(t, address, "en")
	assert.Contains(t, before, "Inner Gate")
	assert.NotContains(t, before, "Help:")
	own := header.Get("Content-Security-Policy")

	_, err := c.SetPages(ctx, config.Pages{Name: "Saltmere <Ferries>", Mark: dot, Accent: "#7a1f3d", Help: "help@saltmere.example",
		Language: "de"})
	require.NoError(t, err)
	after, header := pageIn(t, address, "en")
	assert.Contains(t, after, "Saltmere &lt;Ferries&gt;")
	assert.NotContains(t, after, "Inner Gate")
	assert.Contains(t, after, `<img src="data:image/png;base64,`)
	assert.Contains(t, after, "--sea:#7a1f3d")
	assert.Contains(t, after, `Hilfe: <a href="mailto:help@saltmere.example">`)
	assert.Contains(t, after, `<html lang="de">`)
	assert.NotEqual(t, own, header.Get("Content-Security-Policy"), "the style's hash is that of this style")
	assert.NotContains(t, header.Get("Content-Security-Policy"), "unsafe")

	for name, bad := range map[string]config.Pages{
		"accent": {Accent: "#ffee00"}, "mark": {Mark: "data:image/svg+xml;base64,PHN2Zy8+"}, "help": {Help: "<script>"},
	} {
		_, err := c.SetPages(ctx, bad)
		assert.Error(t, err, name)
	}
	held, err := c.Pages(ctx)
	require.NoError(t, err)
	assert.Equal(t, "#7a1f3d", held.Accent, "what was refused changed nothing")

	// It is part of the configuration: in its file, in the history, and taken back there.
	file, err := c.ExportConfig(ctx)
	require.NoError(t, err)
	assert.Contains(t, file, "help@saltmere.example")
	_, err = c.LoadConfig(ctx, "pages: {accent: '#12525c;}body{'}", false)
	assert.ErrorContains(t, err, "#rrggbb", "a file says nothing that the console may not say")
}

// TestALanguageIsAdded gives the gate a folder with a third language, of which two texts can't be used.
func TestALanguageIsAdded(t *testing.T) {
	t.Parallel()
	w := world(t)
	french := "name: Français\ntexts:\n  \"Sign in\": Se connecter\n  \"Sign in to %s\": Se connecter\n  \"Never said\": Jamais dit\n" +
		"  \"You could not be signed in\": Votre connexion a échoué\n"
	tongue, remarks, err := server.ReadTongue("fr", []byte(french))
	require.NoError(t, err)
	assert.Len(t, tongue.Texts, 2)
	require.Len(t, remarks, 2)
	assert.Contains(t, remarks[0], "nobody says")
	assert.Contains(t, remarks[1], "the same places for values")
	for tag, bad := range map[string]string{"x y": french, "de": french, "fr": "texts: [", "pt": "name: x\nwhat: y\n"} {
		_, _, err := server.ReadTongue(tag, []byte(bad))
		assert.Error(t, err, tag)
	}

	folder := fstest.MapFS{"fr.yaml": {Data: []byte(french)}, "broken.yaml": {Data: []byte("[")}}
	other := httptest.NewServer(server.New(w.Gate, server.Options{Languages: folder}).Handler())
	defer other.Close()
	page, header := pageIn(t, other.URL+"/start/nobody-knows-it", "fr-CA, en;q=0.5")
	assert.Equal(t, "fr", header.Get("Content-Language"))
	assert.Contains(t, page, "Votre connexion a échoué")
	page, _ = pageIn(t, other.URL+"/start/nobody-knows-it", "it")
	assert.Contains(t, page, `<html lang="en">`)
}
