package standin

import "net/http"

// Page is the page about an application's SCIM side: who has an account there, and which mistake it makes.
func (a *Accounts) Page(name string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			r.Body = http.MaxBytesReader(w, r.Body, 4096)
			switch r.FormValue("do") {
			case "change":
				a.Plant(map[string]any{"userName": r.FormValue("user"), "displayName": "Changed at " + name})
			default:
				a.SetMistake(r.FormValue("mistake"))
			}
			http.Redirect(w, r, r.URL.Path, http.StatusSeeOther)
			return
		}
		render(w, http.StatusOK, "accounts.html", map[string]any{"Name": name, "Base": a.Base, "Mistakes": AccountMistakes,
			"Chosen": a.Mistake(), "Users": a.rows(), "Groups": a.groupRows()})
	})
}

// accountRow is an account as the page shows it.
type accountRow struct {
	User, Name, Title string
	Active            bool
}

func (a *Accounts) rows() []accountRow {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.stores["/Users"]
	var out []accountRow
	for _, id := range s.order[:min(len(s.order), 100)] {
		r := s.byID[id]
		active, _ := r["active"].(bool)
		out = append(out, accountRow{textOf(r, "userName"), textOf(r, "displayName"), textOf(r, "title"), active})
	}
	return out
}

// groupRow is a group as the page shows it.
type groupRow struct {
	Name    string
	Members int
}

func (a *Accounts) groupRows() []groupRow {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.stores["/Groups"]
	var out []groupRow
	for _, id := range s.order[:min(len(s.order), 100)] {
		members, _ := s.byID[id]["members"].([]any)
		out = append(out, groupRow{textOf(s.byID[id], "displayName"), len(members)})
	}
	return out
}
