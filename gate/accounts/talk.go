package accounts

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/scim"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

// answerLimit is how long an application may take to answer.
const answerLimit = 20 * time.Second

// talk is what goes between the gate and an application about one account: requests and answers, on record.
type talk struct {
	*Room
	app *partners.Application
	rec *trace.Recorder
	// proof is the header that proves who we are.
	proof string
	pace  *rate.Limiter // nil for as fast as the application takes it
	began time.Time
}

// reply is an application's answer.
type reply struct {
	status  int
	body    []byte
	version string
	wait    time.Duration // for how long it asks to be left alone
}

// paused is why nothing at all can be sent to an application for some time.
type paused struct {
	*explain.Failure
	wait time.Duration // 0 for what the number of tries says
}

func (p *paused) Unwrap() error { return p.Failure }

// newTalk begins one. Another secret than the one that counts is tried where state says so.
func (g *Room) newTalk(ctx context.Context, app *partners.Application, state string) (*talk, error) {
	t := &talk{Room: g, app: app, rec: trace.NewRecorder(g.Now(), g.Now), pace: g.paceOf(app), began: time.Now()}
	if app.Accounts.Address == "" {
		return nil, ground.Conflict("no-address", "The address of "+app.Name+"'s SCIM service is missing.",
			"Enter it on the station accounts.")
	}
	secret, err := g.partners.AccountSecret(ctx, app.ID, state)
	if err != nil {
		return nil, err
	}
	if secret == "" {
		return nil, &paused{explain.New(explain.SCIMNoSecret).Of(app.Name), time.Minute}
	}
	switch app.Accounts.ProveBy {
	case config.ProveByBasic:
		t.proof = "Basic " + base64.StdEncoding.EncodeToString([]byte(app.Accounts.User+":"+secret))
	case config.ProveByOAuth:
		token, err := t.accessToken(ctx, secret)
		if err != nil {
			return nil, err
		}
		t.proof = "Bearer " + token
	default:
		t.proof = "Bearer " + secret
	}
	return t, nil
}

// again is a talk about another account, with the same proof.
func (t *talk) again() *talk {
	return &talk{Room: t.Room, app: t.app, rec: trace.NewRecorder(t.Now(), t.Now), proof: t.proof, pace: t.pace, began: time.Now()}
}

// pace is how many requests a minute an application gets, whoever makes them.
type pace struct {
	perMinute int
	limiter   *rate.Limiter
}

func (g *Room) paceOf(app *partners.Application) *rate.Limiter {
	most := app.Accounts.PerMinute
	if most == 0 {
		return nil
	}
	if held, ok := g.paces.Load(app.ID); ok && held.(*pace).perMinute == most {
		return held.(*pace).limiter
	}
	fresh := &pace{most, rate.NewLimiter(rate.Limit(float64(most)/60), 1)}
	g.paces.Store(app.ID, fresh)
	return fresh.limiter
}

// accessToken is one that was got by client credentials (RFC 6749, section 4.4), kept until shortly before its end.
type accessToken struct {
	value, by string
	until     time.Time
}

func (t *talk) accessToken(ctx context.Context, secret string) (string, error) {
	by := t.app.Accounts.TokenURL + "\x1f" + t.app.Accounts.ClientID + "\x1f" + t.app.Accounts.Scope + "\x1f" + secret
	if held, ok := t.tokens.Load(t.app.ID); ok {
		if k := held.(*accessToken); k.by == by && t.Now().Before(k.until) {
			return k.value, nil
		}
	}
	form := url.Values{"grant_type": {"client_credentials"}}
	if t.app.Accounts.Scope != "" {
		form.Set("scope", t.app.Accounts.Scope)
	}
	basic := base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(t.app.Accounts.ClientID) + ":" + url.QueryEscape(secret)))
	t.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Token request", Binding: "POST",
		Address: t.app.Accounts.TokenURL, Raw: "Authorization: Basic (not shown)\n\n" + form.Encode()})
	got, err := t.Fetch.Do(ctx, fetch.Want{URL: t.app.Accounts.TokenURL, Post: []byte(form.Encode()), AnyStatus: true,
		ContentType: "application/x-www-form-urlencoded", MaxBytes: 64 << 10, Timeout: answerLimit,
		Header: map[string]string{"Authorization": "Basic " + basic, "Accept": "application/json"}})
	if err != nil {
		return "", &paused{explain.New(explain.SCIMUnreachable, explain.Fact("reason", err.Error())).Of(t.app.Name), 0}
	}
	var in struct {
		Token string `json:"access_token"`
		Type  string `json:"token_type"`
		Lasts int    `json:"expires_in"`
		Error string `json:"error"`
	}
	readable := json.Unmarshal(got.Body, &in)
	t.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "Token response", Binding: "POST",
		Address: t.app.Accounts.TokenURL, Raw: fmt.Sprintf("status %d, %s (the token is not shown)", got.Status, in.Error)})
	if got.Status != http.StatusOK || readable != nil || in.Token == "" || !strings.EqualFold(in.Type, "bearer") ||
		strings.ContainsAny(in.Token, "\r\n ") {
		return "", &paused{explain.New(explain.SCIMTokenRefused, explain.Fact("status", fmt.Sprintf("%d from the token endpoint %s",
			got.Status, words.Clip(in.Error, 100)))).Of(t.app.Name), time.Minute}
	}
	if in.Lasts <= 0 || in.Lasts > 24*3600 {
		in.Lasts = 300
	}
	t.tokens.Store(t.app.ID, &accessToken{in.Token, by, t.Now().Add(time.Duration(in.Lasts) * time.Second * 9 / 10)})
	return in.Token, nil
}

// ask makes one request below the base address. What concerns the application as a whole, and not this account, is a pause.
func (t *talk) ask(ctx context.Context, method, path string, body scim.Resource, version string) (*reply, error) {
	address := t.app.Accounts.Address + path
	w := fetch.Want{URL: address, Method: method, Keep: true, AnyStatus: true, Direct: true, MaxBytes: scim.MaxMessage,
		Timeout: answerLimit, Header: map[string]string{"Accept": scim.MediaType + ", application/json", "Authorization": t.proof}}
	sent := "Authorization: (not shown)"
	if version != "" && method != http.MethodGet {
		w.Header["If-Match"] = version
		sent += "\nIf-Match: " + version
	}
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		w.Post, w.ContentType = data, scim.MediaType
		sent += "\n\n" + string(data)
	}
	if t.pace != nil {
		if err := t.pace.Wait(ctx); err != nil {
			return nil, err
		}
	}
	name := method + " " + cut(path)
	t.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: name, Binding: "SCIM", Address: address, Raw: sent})
	got, err := t.Fetch.Do(ctx, w)
	if err != nil {
		if errors.Is(err, fetch.ErrTooLarge) {
			return nil, t.unreadable(fmt.Sprintf("it has more than %d octets", scim.MaxMessage))
		}
		return nil, &paused{explain.New(explain.SCIMUnreachable, explain.Fact("reason", err.Error())).Of(t.app.Name), 0}
	}
	t.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: fmt.Sprintf("%s: %d", name, got.Status), Binding: "SCIM",
		Address: address, Raw: string(got.Body)})
	r := &reply{status: got.Status, body: got.Body, version: got.ETag, wait: waitOf(got.RetryAfter, t.Now())}
	switch got.Status {
	case http.StatusUnauthorized, http.StatusForbidden:
		t.tokens.Delete(t.app.ID)
		return nil, &paused{explain.New(explain.SCIMTokenRefused, explain.Fact("status", fmt.Sprint(got.Status))).Of(t.app.Name), 0}
	case http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusBadGateway, http.StatusGatewayTimeout:
		return nil, &paused{explain.New(explain.SCIMBusy, explain.Fact("status", fmt.Sprint(got.Status))).Of(t.app.Name), r.wait}
	}
	return r, nil
}

// cut is a path for people, without its query.
func cut(path string) string {
	before, _, _ := strings.Cut(path, "?")
	return before
}

// waitOf reads for how long somebody asks to wait (RFC 9110, section 10.2.3), an hour at most.
func waitOf(text string, now time.Time) time.Duration {
	if text == "" {
		return 0
	}
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		return min(time.Duration(min(n, 3600))*time.Second, time.Hour)
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, min(at.Sub(now), time.Hour))
	}
	return 0
}

func (t *talk) unreadable(what string) error {
	return explain.New(explain.SCIMUnreadable, explain.Fact("answer", what)).Of(t.app.Name)
}

// refused is the failure that stands for an answer that is none of success.
func (t *talk) refused(r *reply) error {
	e := scim.ReadError(r.status, r.body)
	said := strings.TrimSpace(fmt.Sprintf("%d %s %s", r.status, e.Type, words.Clip(e.Detail, 300)))
	code := explain.SCIMRefused
	switch {
	case r.status == http.StatusConflict || e.Type == scim.Uniqueness:
		code = explain.SCIMTaken
	case r.status == http.StatusPreconditionFailed:
		code = explain.SCIMMeanwhile
	case r.status >= 500:
		code = explain.SCIMFailed
	case r.status == http.StatusBadRequest || r.status == http.StatusUnprocessableEntity:
		code = explain.SCIMValue
	}
	return explain.New(code, explain.Fact("answer", said)).Of(t.app.Name)
}

// one reads an answer that holds one resource of a kind; nil where it has no body.
func (t *talk) one(k *scim.Kind, r *reply) (scim.Resource, error) {
	if len(strings.TrimSpace(string(r.body))) == 0 {
		return nil, nil
	}
	in, refused := scim.Read(r.body)
	if refused == nil {
		var out scim.Resource
		if out, refused = k.Whole(in); refused == nil {
			if out.ID() == "" || len(out.ID()) > 500 {
				return nil, t.unreadable("the resource has no id")
			}
			return out, nil
		}
	}
	return nil, t.unreadable(words.Clip(refused.Detail, 300))
}

// look asks for the resources that fit a filter.
func (t *talk) look(ctx context.Context, k *scim.Kind, filter string) ([]scim.Resource, error) {
	path := k.Endpoint + "?" + url.Values{"filter": {filter}, "count": {"2"}}.Encode()
	if k.Name == scim.Groups.Name {
		path += "&excludedAttributes=members"
	}
	r, err := t.ask(ctx, http.MethodGet, path, nil, "")
	if err != nil {
		return nil, err
	}
	if r.status == http.StatusNotFound {
		return nil, explain.New(explain.SCIMNoService, explain.Fact("answer", "404 at "+t.app.Accounts.Address+k.Endpoint)).Of(t.app.Name)
	}
	if r.status != http.StatusOK {
		return nil, t.refused(r)
	}
	page, refused := scim.ReadPage(r.body)
	if refused != nil {
		return nil, t.unreadable(words.Clip(refused.Detail, 300))
	}
	var out []scim.Resource
	for _, one := range page.Items {
		whole, refused := k.Whole(one)
		if refused != nil || whole.ID() == "" {
			return nil, t.unreadable("a resource of the list can't be read")
		}
		out = append(out, whole)
	}
	return out, nil
}

// at is the address of a resource below the base address.
func at(k *scim.Kind, id string) string { return k.Endpoint + "/" + url.PathEscape(id) }

// record is what is kept of a talk, sealed.
func (t *talk) record(accountID, what, result string, err error) *store.AccountTalk {
	row := &store.AccountTalk{ID: store.NewID(), At: t.Now().UTC(), ApplicationID: t.app.ID, AccountID: accountID, What: what,
		Result: result,
		Micros: time.Since(t.began).Microseconds()}
	var f *explain.Failure
	if errors.As(err, &f) {
		row.Code, row.Result = string(f.Code), "failed"
		t.rec.Fail(f.Record())
	}
	data, _ := json.Marshal(clipped(t.rec.Entries())) // our own types
	row.Entries = t.Store.Sealer.Seal(store.PlaceTalk, row.ID, data)
	return row
}

// messageKept is how much of a message is kept.
const messageKept = 16 << 10

func clipped(entries []trace.Entry) []trace.Entry {
	out := append([]trace.Entry{}, entries...)
	for i := range out {
		if m := out[i].Message; m != nil && len(m.Raw) > messageKept {
			short := *m
			short.Raw = strings.ToValidUTF8(m.Raw[:messageKept], "") + "… (cut off here; the rest was not kept)"
			out[i].Message = &short
		}
	}
	return out
}

// active is the state of a secret that counts.
const active = keyring.KeyActive
