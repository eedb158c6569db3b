package server_test

import (
	"encoding/json"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/gate/ground"
)

// TestNobodyReadsMarkedValues marks personal values and secrets, and has everybody who may not read them ask every address:
// a viewer, an assigner, and somebody who has not signed in.
func TestNobodyReadsMarkedValues(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	const mark = "zqmark"
	_, err := c.SetMail(ctx, api.SaveMail{Mail: config.Mail{Server: mark + ".mail.example:587", From: "gate@" + mark + ".example"}})
	require.NoError(t, err)
	_, err = c.SetNotices(ctx, api.SaveNotices{Notices: api.Notices{Webhook: "https://hooks.example/" + mark + "/path",
		Mail: []string{mark + "@x.example"}}})
	require.NoError(t, err)
	// A person whose values are all marked signs in, by SAML and by way of an address with a query.
	for i := range w.Staff.People {
		if w.Staff.People[i].ID == "mvoss" {
			for j := range w.Staff.People[i].Attributes {
				if a := &w.Staff.People[i].Attributes[j]; len(a.Values) == 1 {
					a.Values = []string{mark + a.Values[0]}
				}
			}
		}
	}
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in?token="+mark, "mvoss"))
	b = w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(ctx, w.BerthsURL+"/boats?token="+mark, "mvoss"))
	who := known(t, w, mark)
	require.NotEmpty(t, who)
	require.NoError(t, c.Assign(ctx, "crew-rota", api.Assignment{Kind: "person", Who: who[0].ID}))
	other := add(t, w, claims.Bag{"name": {mark + " Other"}, "email": {mark + ".other@saltmere.example"}})
	for _, code := range []string{"", "refused"} { // one that is refused, with evidence about the person
		if code == "refused" {
			_, err = c.PutPerson(ctx, who[0].ID, api.SavePerson{Profile: claims.Bag{"name": {mark}}, Active: new(bool)})
			require.NoError(t, err)
			signsIn(t, w, "mvoss")
		}
	}
	text, err := os.ReadFile("../web/openapi.json")
	require.NoError(t, err)
	var described struct {
		Paths map[string]map[string]json.RawMessage
	}
	require.NoError(t, json.Unmarshal(text, &described))
	traces, err := c.Traces(ctx, client.Page{Limit: 20})
	require.NoError(t, err)
	viewer := token(t, w, ground.RoleViewer)
	assigns, err := c.NewToken(ctx, api.NewToken{Name: "assigner", Role: ground.RoleAssigner, Days: 1, Applications: []string{"crew-rota"}})
	require.NoError(t, err)
	assigner := assigns.Secret
	asked := map[string]int{}
	// Whoever assigns people must know whom; profiles and all else stay closed to them.
	named := []string{"/people", "/people/{id}", "/applications/{slug}/assignments", "/groups/{slug}/members"}
	look := func(route, path string) {
		for _, by := range []string{viewer, assigner, ""} {
			answer, body := send(t, http.DefaultClient, http.MethodGet, w.URL+"/api/v1"+path, by, "")
			if answer.StatusCode == http.StatusOK {
				asked[by]++
			}
			at := strings.Index(strings.ToLower(body), mark)
			if at >= 0 && (by != assigner || !slices.Contains(named, route)) {
				who := map[string]string{viewer: "a viewer", assigner: "an assigner", "": "anybody"}[by]
				assert.Fail(t, who+" reads what is marked", "%s: …%s…", path, body[max(0, at-120):min(len(body), at+60)])
			}
		}
	}
	for path, methods := range described.Paths {
		if methods["get"] == nil || strings.Contains(path, "/events") {
			continue
		}
		for _, slug := range []string{"crew-rota", "berth-board", "saltmere-staff", "crew"} {
			for _, id := range []string{who[0].ID, other.ID} {
				filled := strings.NewReplacer("{slug}", slug, "{id}", id, "{kind}", "applications", "{number}", "1", "{name}",
					"mail").Replace(path)
				if strings.Contains(filled, "{reference}") || strings.Contains(filled, "{a}") {
					for _, tr := range traces.Items {
						look(path, strings.NewReplacer("{reference}", tr.Reference, "{a}", tr.Reference, "{b}",
							traces.Items[0].Reference).Replace(filled))
					}
					continue
				}
				look(path, filled)
				if filled == path {
					break
				}
			}
			if !strings.Contains(path, "{") {
				break
			}
		}
	}
	assert.Greater(t, asked[viewer], 60)
	assert.Positive(t, asked[assigner])
	assert.Positive(t, asked[""])
	// What is masked can't be found by searching or sorting either.
	for _, path := range []string{"/people?search=" + mark, "/journal?search=" + mark,
		"/applications/crew-rota/assignments?search=" + mark} {
		answer, body := send(t, http.DefaultClient, http.MethodGet, w.URL+"/api/v1"+path, viewer, "")
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, path)
		assert.Contains(t, body, "masked-search")
	}
}
