package server_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/demo"
	"innergate/gate/ground"
)

// desk connects Ticket Desk as a draft of which nothing is known yet.
func desk(t *testing.T, w *demo.World) {
	t.Helper()
	_, err := w.Client().
		AddApplication(t.Context(), config.Application{Slug: "ticket-desk", Name: "Ticket Desk", Kind: "saml",
			Contact: "desk@saltmere.example", Providers: []string{"saltmere-staff"}, Access: access.Policy{To: access.Everybody},
			StartURL: w.DeskURL + "/sign-in", SAML: &config.SAMLApplication{SPInitiatedOnly: true}})
	require.NoError(t, err)
}

// TestHandoverLinks walks the way of a partner's engineer without a browser, and tries what somebody would who should
// not be there.
func TestHandoverLinks(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	desk(t, w)
	h, err := c.NewHandover(ctx, "applications", "ticket-desk", api.NewHandover{Openings: 1, Hours: 2, Remark: "Your metadata, please."})
	require.NoError(t, err)
	path := strings.TrimPrefix(h.Link, w.URL)

	// Whoever only looks, such as a mail program, opens nothing, and sees nothing of ours.
	b := w.Walker()
	require.NoError(t, b.Get(ctx, h.Link))
	assert.Contains(t, b.Text, "1 more")
	assert.NotContains(t, b.Text, "Your metadata, please.")
	for _, what := range []string{"/compare", "/leave", "/try"} {
		require.NoError(t, b.Post(ctx, h.Link+what, url.Values{"text": {w.DeskURL + "/metadata"}, "act": {"leave"}}))
		assert.Contains(t, b.Text, "This link is over", "%s needs the link to be opened in this browser", what)
	}
	require.NoError(t, b.Get(ctx, h.Link+"/certificate/x.pem"))
	assert.NotEqual(t, http.StatusOK, b.Status)
	require.NoError(t, b.Post(ctx, h.Link, nil))
	assert.Contains(t, b.Text, "Your metadata, please.")
	assert.Contains(t, b.Text, w.URL+"/saml/idp/sso")

	// Forwarded: a second browser comes too late, and can't take what the first keeps for another link.
	late := w.Walker()
	require.NoError(t, late.Get(ctx, h.Link))
	assert.Equal(t, http.StatusGone, late.Status)
	require.NoError(t, late.Post(ctx, h.Link, nil))
	assert.Equal(t, http.StatusGone, late.Status)

	// Guessed: every other token is none, and whoever tries many is stopped.
	require.NoError(t, late.Get(ctx, w.URL+path[:len(path)-1]+"x"))
	assert.Equal(t, http.StatusGone, late.Status)
	for range 40 {
		require.NoError(t, late.Get(ctx, w.URL+"/handover/guess"))
	}
	assert.Equal(t, http.StatusTooManyRequests, late.Status)

	// What is left waits, and shows as a difference; nothing of the application changes.
	require.NoError(t, b.Post(ctx, h.Link+"/leave", url.Values{"text": {"<nothing/>"}, "act": {"leave"}}))
	assert.Equal(t, http.StatusUnprocessableEntity, b.Status)
	assert.Contains(t, b.Text, "&lt;nothing/&gt;", "what was entered stays")
	require.NoError(
		t,
		b.Post(ctx, h.Link+"/leave", url.Values{"text": {w.DeskURL + "/metadata"}, "remark": {"<b>ours</b>"}, "act": {"look"}}),
	)
	assert.Contains(t, b.Text, "This is what we understood")
	list, err := c.Proposals(ctx, client.Page{})
	require.NoError(t, err)
	assert.Empty(t, list.Items, "looking leaves nothing")
	require.NoError(
		t,
		b.Post(ctx, h.Link+"/leave", url.Values{"text": {w.DeskURL + "/metadata"}, "remark": {"<b>ours</b>"}, "act": {"leave"}}),
	)
	assert.Contains(t, b.Text, "What you left waits")
	list, err = c.Proposals(ctx, client.Page{})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	left, err := c.Proposal(ctx, list.Items[0].ID)
	require.NoError(t, err)
	assert.True(t, left.Theirs)
	assert.Equal(t, "<b>ours</b>", left.Remark)
	assert.Empty(t, left.Broken)
	var fields []string
	for _, ch := range left.Changes {
		fields = append(fields, ch.Field)
	}
	assert.Contains(t, fields, "saml.entityId")
	a, err := c.Application(ctx, "ticket-desk")
	require.NoError(t, err)
	assert.Empty(t, a.SAML.EntityID)

	// A viewer can't decide, an engineer takes it, and its document is kept as a version.
	viewer := w.Client()
	viewer.Token = token(t, w, ground.RoleViewer)
	_, err = viewer.ApplyProposal(ctx, left.ID, api.ApplyProposal{})
	assert.ErrorContains(t, err, "needs the role engineer")
	_, err = c.ApplyProposal(ctx, left.ID, api.ApplyProposal{})
	require.NoError(t, err)
	a, err = c.Application(ctx, "ticket-desk")
	require.NoError(t, err)
	assert.Equal(t, w.DeskURL+"/saml", a.SAML.EntityID)
	versions, err := c.Documents(ctx, "applications", "ticket-desk")
	require.NoError(t, err)
	require.Len(t, versions.Items, 1)
	_, err = c.ApplyProposal(ctx, left.ID, api.ApplyProposal{})
	assert.ErrorContains(t, err, "was applied already")

	// She tries it; what is ours, and what others did, does not show.
	require.NoError(t, w.Walker().SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.NoError(t, b.Post(ctx, h.Link+"/try", nil))
	require.NoError(t, b.Choose(ctx, "vlund"))
	require.NoError(t, b.Get(ctx, h.Link))
	assert.Contains(t, b.Text, "It came through")
	assert.Contains(t, b.Text, "vlund")
	assert.NotContains(t, b.Text, "mvoss")
	held, err := c.Handovers(ctx, "applications", "ticket-desk")
	require.NoError(t, err)
	require.Len(t, held.Items, 1)
	assert.Equal(t, []int{1, 1, 1}, []int{len(held.Items[0].Openings), len(held.Items[0].Left), len(held.Items[0].Rehearsals)})

	// Revoked, it is over for her too. One whose time is over is over.
	require.NoError(t, c.RevokeHandover(ctx, h.ID))
	require.NoError(t, b.Get(ctx, h.Link))
	assert.Equal(t, http.StatusGone, b.Status)
	assert.NotContains(t, b.Text, "Your metadata, please.")
	for _, wrong := range []api.NewHandover{{Hours: -1}, {Hours: 99999}, {Openings: 50}, {Remark: strings.Repeat("x", 3000)}} {
		_, err = c.NewHandover(ctx, "applications", "ticket-desk", wrong)
		assert.Error(t, err)
	}
	_, err = c.NewHandover(ctx, "providers", "harbour-register", api.NewHandover{})
	assert.Error(t, err, "the gate's own directory has no other side")
	lines, err := c.Journal(ctx, client.Page{Limit: 100})
	require.NoError(t, err)
	var said []string
	for _, l := range lines.Items {
		said = append(said, l.Action)
	}
	assert.Subset(
		t,
		said,
		[]string{
			"made a handover link for",
			"opened a handover link for",
			"proposed a change of",
			"applied a change of",
			"revoked a handover link for",
		},
	)
}

// TestAHandoverForAProvider tells a partner why its sign-in failed, in the words that are meant for it.
func TestAHandoverForAProvider(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	h, err := c.NewHandover(ctx, "providers", "saltmere-staff", api.NewHandover{})
	require.NoError(t, err)
	b := w.Walker()
	require.NoError(t, b.Post(ctx, h.Link, nil))
	assert.Contains(t, b.Text, w.URL+"/saml/sp/saltmere-staff/acs")
	require.NoError(t, b.Post(ctx, h.Link+"/compare", url.Values{"text": {"ACS URL: " + w.URL + "/saml/sp/saltmere-staff/acs/"}}))
	assert.Contains(t, b.Text, "Something differs.")
	w.Staff.SetMistake("audience")
	require.NoError(t, b.Post(ctx, h.Link+"/try", nil))
	require.NoError(t, b.Choose(ctx, "mvoss"))
	require.NoError(t, b.Get(ctx, h.Link))
	assert.Contains(t, b.Text, "It was refused")
	assert.Contains(t, b.Text, "audience")
}

// TestAHandoverForAnOpenIDProvider: its engineer leaves a new client ID with its secret, and tries both before anything
// changes; the secret is shown to nobody.
func TestAHandoverForAnOpenIDProvider(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	second := w.Northquay.Clients[0]
	second.ID, second.Secret = "gate-two", "nq-4f9c1e7ab2d84c60-second"
	w.Northquay.Clients = append(w.Northquay.Clients, second)
	h, err := c.NewHandover(ctx, "providers", "northquay-stevedores", api.NewHandover{})
	require.NoError(t, err)
	b := w.Walker()
	require.NoError(t, b.Post(ctx, h.Link, nil))
	leave := func(id, secret, act string) {
		require.NoError(t, b.Post(ctx, h.Link+"/leave", url.Values{"client_id": {id}, "client_secret": {secret}, "act": {act}}))
	}
	for secret, says := range map[string]string{"gate-two": "This is the client ID", "https://nq.example/": "This is an address",
		strings.Repeat("x", 3000): "1 to 2000 characters"} {
		leave("gate-two", secret, "leave")
		assert.Contains(t, b.Text, says)
	}
	leave("", "", "leave")
	assert.Contains(t, b.Text, "Neither an address nor a text was given.")
	leave("gate-two", second.Secret, "look")
	assert.Contains(t, b.Text, "This is what we understood")
	assert.Contains(t, b.Text, "gate-two")
	assert.NotContains(t, b.Text, second.Secret)
	list, err := c.Proposals(ctx, client.Page{})
	require.NoError(t, err)
	assert.Empty(t, list.Items)

	tries := func() string {
		require.NoError(t, b.Post(ctx, h.Link+"/try", nil))
		require.NoError(t, b.Choose(ctx, "ivo.tamm"))
		require.NoError(t, b.Get(ctx, h.Link))
		held, err := c.Handovers(ctx, "providers", "northquay-stevedores")
		require.NoError(t, err)
		return held.Items[0].Rehearsals[0].Outcome
	}
	leave("gate-two", "not-the-secret-of-anybody", "leave")
	assert.Contains(t, b.Text, "What you left waits")
	assert.Contains(t, b.Text, "with a client secret")
	assert.Equal(t, "refused", tries(), "with a wrong secret")
	leave("gate-two", second.Secret, "leave")
	assert.Equal(t, "stopped", tries(), "with the right one, which waits: at its end, as a rehearsal of a provider alone is")

	// What is left waits sealed: no answer, no line of the journal and no file holds it.
	list, err = c.Proposals(ctx, client.Page{})
	require.NoError(t, err)
	require.Len(t, list.Items, 2)
	assert.True(t, list.Items[0].Secret)
	lines, err := c.Journal(ctx, client.Page{Limit: 100})
	require.NoError(t, err)
	said, err := json.Marshal([]any{list, lines})
	require.NoError(t, err)
	assert.NotContains(t, string(said)+b.Text, second.Secret)
	p, err := c.Provider(ctx, "northquay-stevedores")
	require.NoError(t, err)
	assert.NotEqual(t, "gate-two", p.OIDC.ClientID, "nothing changed yet")

	_, err = c.WithdrawProposal(ctx, list.Items[1].ID, "the wrong secret")
	require.NoError(t, err)
	_, err = c.ApplyProposal(ctx, list.Items[0].ID, api.ApplyProposal{})
	require.NoError(t, err)
	p, err = c.Provider(ctx, "northquay-stevedores")
	require.NoError(t, err)
	assert.Equal(t, "gate-two", p.OIDC.ClientID)
	w.Northquay.Clients = w.Northquay.Clients[1:]
	tried, err := c.Secrets(ctx, "providers", "northquay-stevedores")
	require.NoError(t, err)
	require.Len(t, tried.Items, 1)
	assert.Equal(t, "nq-", tried.Items[0].Hint)
	for _, one := range list.Items {
		one, err := c.Proposal(ctx, one.ID)
		require.NoError(t, err)
		assert.False(t, one.Secret, "decided, it holds no secret any more")
	}
	assert.Equal(t, "stopped", tries(), "and what is set now works")
}

// TestWhatIsLeftCantFetchOurSecret: another token endpoint, left through a link, is tried without what only the
// provider may know; whoever made the link is not the second person for it.
func TestWhatIsLeftCantFetchOurSecret(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	var mu sync.Mutex
	var got []string
	thief := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		got = append(got, r.Method+" "+r.URL.Path+" "+r.Header.Get("Authorization")+" "+string(body))
		rw.WriteHeader(http.StatusBadRequest)
	}))
	defer thief.Close()
	h, err := c.NewHandover(ctx, "providers", "northquay-stevedores", api.NewHandover{})
	require.NoError(t, err)
	b := w.Walker()
	reads := w.Walker()
	require.NoError(t, reads.Get(ctx, w.NorthquayURL+"/.well-known/openid-configuration"))
	doc := map[string]any{}
	require.NoError(t, json.Unmarshal([]byte(reads.Text), &doc))
	doc["token_endpoint"] = thief.URL + "/token"
	text, err := json.Marshal(doc)
	require.NoError(t, err)
	require.NoError(t, b.Post(ctx, h.Link, nil))
	leave := func(secret string) {
		require.NoError(t, b.Post(ctx, h.Link+"/leave", url.Values{"text": {string(text)}, "client_secret": {secret}, "act": {"leave"}}))
		require.Contains(t, b.Text, "What you left waits")
		require.NoError(t, b.Post(ctx, h.Link+"/try", nil))
		require.NoError(t, b.Choose(ctx, "ivo.tamm"))
	}
	w.Gate.Fetch.StandIns = append(w.Gate.Fetch.StandIns, strings.TrimPrefix(thief.URL, "http://")) // a public address, as it were
	leave("")
	assert.Empty(t, got, "nothing reaches an address that nobody of ours approved")
	assert.Equal(t, "rehearsal.unapproved", newest(t, w).Code)
	leave("her-own-secret-for-this-address")
	require.Len(t, got, 1, "with a secret that came with it, it is tried with that one")
	assert.NotContains(t, got[0], w.Northquay.Clients[0].Secret)

	// With a second person asked for, the one who made the link is not it.
	_, err = c.SetReview(ctx, config.Review{Second: true})
	require.NoError(t, err)
	list, err := c.Proposals(ctx, client.Page{})
	require.NoError(t, err)
	_, err = c.ApproveProposal(ctx, list.Items[0].ID)
	assert.ErrorContains(t, err, "a handover link that you made yourself")
	other := w.Client()
	other.Token = token(t, w, ground.RoleEngineer)
	_, err = other.ApproveProposal(ctx, list.Items[0].ID)
	assert.NoError(t, err)
}

// TestWhatIsLeftReachesNoOtherApplication leaves another application's metadata through a draft's link, and tries it as
// somebody whom that application does not let in.
func TestWhatIsLeftReachesNoOtherApplication(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	_, err := c.SetAccess(ctx, "crew-rota", access.Policy{To: access.Assigned})
	require.NoError(t, err)
	_, code := signsIn(t, w, "zoberg")
	require.Equal(t, "access.not-assigned", code)
	_, err = c.AddApplication(ctx, config.Application{
		Slug: "small-tool", Name: "Small Tool", Kind: "saml", Providers: []string{"saltmere-staff"},
		Access: access.Policy{To: access.Everybody}, Subject: config.Subject{Source: "profile", From: "preferred_username"},
	})
	require.NoError(t, err)
	h, err := c.NewHandover(ctx, "applications", "small-tool", api.NewHandover{})
	require.NoError(t, err)
	b := w.Walker()
	require.NoError(t, b.Post(ctx, h.Link, nil))
	require.NoError(t, b.Post(ctx, h.Link+"/leave", url.Values{"text": {w.RotaURL + "/metadata"}, "act": {"leave"}}))
	require.Contains(t, b.Text, "What you left waits")
	require.NoError(t, b.Post(ctx, h.Link+"/try", nil))
	require.NoError(t, b.Choose(ctx, "zoberg"))
	assert.Empty(t, b.Inner("nameid"))
	assert.Contains(t, b.Text, "ends here")
	assert.Equal(t, "stopped", newest(t, w).Outcome)
}

// TestALinkIsNoSigningOracle leaves a discovery document with private_key_jwt, an audience and a token endpoint of the
// outsider's own choice: no assertion of ours reaches it.
func TestALinkIsNoSigningOracle(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	var mu sync.Mutex
	var got []string
	thief := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		got = append(got, string(body))
		rw.WriteHeader(http.StatusBadRequest)
	}))
	defer thief.Close()
	h, err := c.NewHandover(ctx, "providers", "northquay-stevedores", api.NewHandover{})
	require.NoError(t, err)
	b, reads := w.Walker(), w.Walker()
	require.NoError(t, reads.Get(ctx, w.NorthquayURL+"/.well-known/openid-configuration"))
	doc := map[string]any{}
	require.NoError(t, json.Unmarshal([]byte(reads.Text), &doc))
	doc["token_endpoint"], doc["issuer"] = thief.URL+"/token", "https://another-provider.example"
	doc["authorization_response_iss_parameter_supported"] = false
	doc["token_endpoint_auth_methods_supported"] = []string{"private_key_jwt"}
	text, err := json.Marshal(doc)
	require.NoError(t, err)
	require.NoError(t, b.Post(ctx, h.Link, nil))
	require.NoError(t, b.Post(ctx, h.Link+"/leave", url.Values{
		"text": {string(text)}, "client_id": {"the-gate-at-another"}, "client_secret": {"anything-at-all-will-do"}, "act": {"leave"},
	}))
	require.Contains(t, b.Text, "What you left waits")
	b.HTTP.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if strings.Contains(r.URL.Path, "/authorize") {
			return http.ErrUseLastResponse
		}
		return nil
	}
	require.NoError(t, b.Post(ctx, h.Link+"/try", nil))
	require.NoError(t, b.Onward(ctx))
	state := ""
	if i := strings.Index(b.Text, "state="); i > 0 {
		state = b.Text[i+6 : i+6+26]
	} else {
		state = b.Address.Query().Get("state")
	}
	require.NotEmpty(t, state)
	require.NoError(t, b.Get(ctx, w.URL+"/oidc/callback/northquay-stevedores?code=x&state="+state))
	mu.Lock()
	defer mu.Unlock()
	assert.Empty(t, got)
	assert.Equal(t, "rehearsal.unapproved", newest(t, w).Code)
}

// TestOutsidersDontReachInside enters addresses of the gate's own network through a handover link, where the operator
// lets the gate's own engineers fetch from it.
func TestOutsidersDontReachInside(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	var asked atomic.Int64
	inside := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		rw.WriteHeader(http.StatusForbidden)
	}))
	defer inside.Close()
	h, err := c.NewHandover(ctx, "providers", "northquay-stevedores", api.NewHandover{})
	require.NoError(t, err)
	b := w.Walker()
	require.NoError(t, b.Post(ctx, h.Link, nil))
	said := map[string]bool{}
	for _, a := range []string{inside.URL + "/admin/shutdown?now=1", "http://127.0.0.1:1/", "http://[64:ff9b:1::7f00:1]:1/"} {
		for _, act := range []string{"look", "leave"} {
			require.NoError(t, b.Post(ctx, h.Link+"/leave", url.Values{"text": {a}, "act": {act}}))
			alert := regexp.MustCompile(`(?s)role="alert">([^<]*)`).FindStringSubmatch(b.Text)
			require.NotEmpty(t, alert, a)
			said[strings.ReplaceAll(alert[1], a, "")] = true
		}
	}
	assert.Zero(t, asked.Load())
	assert.Len(t, said, 1, "what is there and what is not sounds the same: %v", said)
}
