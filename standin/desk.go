package standin

import (
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// desk is where people sign in at a provider, whatever it speaks: the requests that wait for a person, and who is
// signed in already.
type desk[Q any] struct {
	mu       sync.Mutex
	asked    map[string]Q // by a handle of its own
	sessions map[string]session
}

type session struct {
	person string
	at     time.Time
}

const deskRoom = 10000

// wait keeps a request until somebody has chosen who they are.
func (d *desk[Q]) wait(q Q) (handle string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.asked == nil || len(d.asked) > deskRoom {
		d.asked = map[string]Q{}
	}
	handle = rand()
	d.asked[handle] = q
	return handle
}

// take hands a waiting request out, once.
func (d *desk[Q]) take(handle string) (q Q, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	q, ok = d.asked[handle]
	delete(d.asked, handle)
	return q, ok
}

// remember signs a person in for later requests of the same browser.
func (d *desk[Q]) remember(w http.ResponseWriter, base string, person *Person, at time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.sessions == nil || len(d.sessions) > deskRoom {
		d.sessions = map[string]session{}
	}
	id := rand()
	d.sessions[id] = session{person.ID, at}
	http.SetCookie(
		w,
		&http.Cookie{
			Name:     sessionCookie(base),
			Value:    id,
			Path:     "/",
			HttpOnly: true,
			Secure:   strings.HasPrefix(base, "https:"),
			SameSite: http.SameSiteLaxMode,
		},
	)
}

// known is the session of a browser, or an empty one.
func (d *desk[Q]) known(r *http.Request, base string) session {
	cookie, err := r.Cookie(sessionCookie(base))
	if err != nil {
		return session{}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.sessions[cookie.Value]
}

// leave ends the session of a browser.
func (d *desk[Q]) leave(r *http.Request, base string) {
	if cookie, err := r.Cookie(sessionCookie(base)); err == nil {
		d.mu.Lock()
		defer d.mu.Unlock()
		delete(d.sessions, cookie.Value)
	}
}

// Forget ends all sessions at the provider.
func (d *desk[Q]) Forget() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.sessions = nil
}

// sessionCookie has the port in its name, since cookies of several stand-ins on one host would overwrite one another.
func sessionCookie(base string) string {
	name := "standin-provider"
	if u, err := url.Parse(base); err == nil {
		name += "-" + u.Port()
	}
	return name
}

func findPerson(people []Person, id string) *Person {
	for i := range people {
		if people[i].ID == id {
			return &people[i]
		}
	}
	return nil
}
