package standin

import (
	"context"
	"net/http"
)

// quaysideMistakes are the mistakes with what they are, for people.
var quaysideMistakes = [][2]string{
	{QuaysideNTLM, "finds no ticket, and offers NTLM"},
	{QuaysideClock, "has a clock ten minutes behind"},
	{QuaysideOther, "asks for a ticket to an old name of the gate"},
	{QuaysideRenewed, "gets tickets for a key that was made anew"},
	{QuaysideForeign, "is used by a guest from another realm"},
	{QuaysideMachine, "runs the browser as itself"},
}

// QuaysidePage is the page at which somebody sits down at a desk of the realm. Open has the desk's browser open an application, and
// returns what it shows in the end.
type QuaysidePage struct {
	Realm                *Quayside
	People, Applications []string
	Open                 func(ctx context.Context, person, application string) (string, error)
}

// Handler serves the page.
func (p *QuaysidePage) Handler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen := map[string]any{"People": p.People, "Applications": p.Applications, "Mistakes": quaysideMistakes, "Person": "",
			"Application": "",
			"Mistake":     "", "Asked": r.Method == http.MethodPost, "Said": ""}
		if r.Method == http.MethodPost {
			r.Body = http.MaxBytesReader(w, r.Body, 4096)
			person, application, mistake := r.FormValue("person"), r.FormValue("application"), r.FormValue("mistake")
			p.Realm.Make(mistake)
			said, err := p.Open(r.Context(), person, application)
			p.Realm.Make("")
			if err != nil {
				said = err.Error()
			}
			seen["Person"], seen["Application"], seen["Mistake"], seen["Said"] = person, application, mistake, said
		}
		render(w, http.StatusOK, "quayside.html", seen)
	})
}
