package management

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/invopop/jsonschema"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/gate/changes"
	"innergate/gate/ground"
)

// wholeFile answers with the configuration as one file, in the form of api.ConfigFiles, without ever holding all of it.
func wholeFile(each func(func(text string) error) error) written {
	return func(w *bufio.Writer) error {
		if _, err := fmt.Fprintf(w, `{"files":[{"name":%q,"text":"`, changes.WholeFile); err != nil {
			return err
		}
		if err := each(func(text string) error {
			quoted, err := json.Marshal(text)
			if err != nil {
				return err
			}
			_, err = w.Write(quoted[1 : len(quoted)-1])
			return err
		}); err != nil {
			return err
		}
		_, err := w.WriteString(`"}]}`)
		return err
	}
}

// configRoutes are the operations on the configuration as files.
func configRoutes() []route {
	const engineer = ground.RoleEngineer
	post, get := http.MethodPost, http.MethodGet
	return []route{
		{
			Method: get,
			Path:   "/config",
			Summary: "The configuration as files: one, or with form=folder one for each application and provider; with sealed=1 an " +
				"owner gets secrets, sealed for this gate",
			Role:     engineer,
			Query:    []string{"form", "sealed"},
			Response: api.ConfigFiles{},
			handle: func(c *call) (any, error) {
				sealed := c.Query("sealed") == "1"
				if c.Query("form") == "folder" {
					return c.s.Gate.Changes.ExportConfig(c.Context(), c.who, true, sealed)
				}
				each, err := c.s.Gate.Changes.Exporting(c.Context(), c.who, sealed)
				return wholeFile(each), err
			},
		},
		{
			Method:   post,
			Path:     "/config",
			Summary:  "Create and update what files describe, all or nothing, or only tell what would happen",
			Role:     engineer,
			Request:  api.LoadConfig{},
			Response: api.ConfigResult{},
			handle: func(c *call) (any, error) {
				in, err := body[api.LoadConfig](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.LoadConfig(c.Context(), c.who, in)
			},
		},
		{
			Method:   post,
			Path:     "/config/staged",
			Summary:  "Open a place for a configuration that is too large for one call",
			Role:     engineer,
			Response: api.Staged{},
			Status:   201,
			handle:   func(c *call) (any, error) { return c.s.Gate.Changes.NewStaged(c.Context(), c.who) },
		},
		{
			Method:   post,
			Path:     "/config/staged/{id}/parts",
			Summary:  "Send a part of it that begins at an offset",
			Role:     engineer,
			Query:    []string{"at"},
			Upload:   true,
			Response: api.Staged{},
			handle: func(c *call) (any, error) {
				at, err := strconv.ParseInt(c.Query("at"), 10, 64)
				if err != nil || at < 0 {
					return nil, &api.Problem{
						Type:   "about:blank",
						Status: http.StatusBadRequest,
						Title:  "Where the part begins is missing",
						Code:   "at",
						Detail: "The query needs at, the offset in octets at which the part begins.",
					}
				}
				return c.s.Gate.Changes.AddStaged(c.Context(), c.who, c.Params("id"), at, bytes.Clone(c.BodyRaw()))
			},
		},
		{
			Method:   post,
			Path:     "/config/seal",
			Summary:  "Seal a secret for this gate, so that it can stand in a file",
			Role:     engineer,
			Request:  api.SealSecret{},
			Response: api.SealedSecret{},
			handle: func(c *call) (any, error) {
				in, err := body[api.SealSecret](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.SealSecret(c.Context(), c.who, in)
			},
		},
	}
}

var schemaOnce struct {
	sync.Once
	document []byte
}

// Schema is the JSON Schema of configuration files (draft 2020-12), for editors.
func Schema() []byte {
	schemaOnce.Do(func() {
		reflector := jsonschema.Reflector{Anonymous: true, Namer: schemaName, Mapper: mapType, RequiredFromJSONSchemaTags: true}
		s := reflector.Reflect(files.Form{})
		s.Title, s.Description = "Inner Gate configuration",
			"A file, or a part of the configuration of a gate. What a file does not mention stays as it is."
		for name, d := range s.Definitions {
			describeFields(name, d)
		}
		b, err := json.MarshalIndent(s, "", " ")
		if err != nil {
			panic(err) // made by the reflector
		}
		schemaOnce.document = append(b, '\n')
	})
	return schemaOnce.document
}

// describeFields gives the fields of every object the words that people see when an editor offers them.
func describeFields(name string, s *jsonschema.Schema) {
	if s.Properties == nil {
		return
	}
	for p := s.Properties.Oldest(); p != nil; p = p.Next() {
		if words := fieldWords[name+"."+p.Key]; words != "" && p.Value.Ref == "" {
			p.Value.Description = words
		} else if words := fieldWords[p.Key]; words != "" && p.Value.Ref == "" {
			p.Value.Description = words
		}
		values := allowedValues(name, p.Key)
		switch {
		case values == nil:
		case p.Value.Type == "string":
			p.Value.Enum = anyOf(values)
		case p.Value.Type == "array" && p.Value.Items != nil:
			p.Value.Items.Enum = anyOf(values)
		}
	}
}

// allowedValues are the values of a field by the name of its type in the schema, which has the name of its package before it.
func allowedValues(name, field string) []string {
	for _, prefix := range []string{"Config", "Policy", "Saml", "People", ""} {
		if own, ok := strings.CutPrefix(name, prefix); ok {
			if own == "" {
				own = "Policy"
			}
			if values := config.Allowed[own+"."+field]; values != nil {
				return values
			}
		}
	}
	return nil
}

func anyOf(list []string) []any {
	out := make([]any, len(list))
	for i, v := range list {
		out[i] = v
	}
	return out
}

// fieldWords are said of fields whose name does not say enough.
var fieldWords = map[string]string{
	"slug":                    "The short name: fixed once given, because it stands in addresses that others hold.",
	"reach":                   "Whom it serves: draft (rehearsals only), circle (a chosen few), everyone, or closed.",
	"providers":               "Short names of the providers that people sign in with here, in order of preference.",
	"startUrl":                "The application's own address at which a person begins.",
	"steps":                   "In a mapping: what is done to the values, in order.",
	"ConfigApplication.steps": "What the other side's engineer has to do, in order; they stand on the exchange sheet.",
	"ConfigProvider.steps":    "What the other side's engineer has to do, in order; they stand on the exchange sheet.",
	"admission":               "What happens to a subject that matches nobody: refuse, create, ask or pass.",
	"required":                "The sign-in is refused where there is no value.",
	"use":                     "The short name of a rule set whose rules stand at this place.",
	"entityId":                "The partner's entity ID, exactly as it sends it.",
	"env":                     "The name of an environment variable where the command that loads the file runs.",
	"sealed":                  "What `innergate config seal` printed.",
	"file":                    "The path of a file with the secret and nothing else, from where this file lies.",
	"for":                     "What the secret belongs to: providers/NAME, applications/NAME, mail or notices.",
}

// historyRoutes are the operations on revisions, and on changes that are proposed.
func historyRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, get := http.MethodPost, http.MethodPut, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/history",
			Summary:  "Revisions, the newest first: of everything, of a kind, or of one object",
			Role:     engineer,
			Query:    []string{"kind", "slug", "search", "from", "until", "after", "limit"},
			Response: api.List[api.Revision]{},
			handle: func(c *call) (any, error) {
				f := changes.HistoryFilter{Kind: c.Query("kind"), Slug: c.Query("slug"), Owner: ground.Allows(c.who.Role, owner)}
				for name, into := range map[string]*time.Time{"from": &f.From, "until": &f.Until} {
					if err := timeQuery(c, name, into); err != nil {
						return nil, err
					}
				}
				return c.s.Gate.Changes.History(c.Context(), page(c), f)
			},
		},
		{
			Method:   get,
			Path:     "/history/revision",
			Summary:  "One revision, held against another one or, with against=0, the newest",
			Role:     engineer,
			Query:    []string{"kind", "slug", "number", "against"},
			Response: api.RevisionView{},
			handle: func(c *call) (any, error) {
				number, _ := strconv.Atoi(c.Query("number"))
				against, _ := strconv.Atoi(c.Query("against"))
				return c.s.Gate.Changes.Revision(c.Context(), c.who, c.Query("kind"), c.Query("slug"), number, against)
			},
		},
		{
			Method:   post,
			Path:     "/history/restore",
			Summary:  "Bring one object back to a revision, or the whole configuration to a time, or only tell what that would do",
			Role:     engineer,
			Request:  api.Restore{},
			Response: api.ConfigResult{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Restore](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.Restore(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/proposals",
			Summary:  "Changes that are proposed, the newest first; state=waiting for those that nobody has decided about",
			Role:     viewer,
			Query:    []string{"kind", "slug", "state", "after", "limit"},
			Response: api.List[api.Proposal]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Changes.Proposals(c.Context(), page(c), c.Query("kind"), c.Query("slug"), c.Query("state"))
			},
		},
		{
			Method:   post,
			Path:     "/proposals",
			Summary:  "Propose a change; nothing acts on it until it is applied",
			Role:     engineer,
			Request:  api.NewProposal{},
			Response: api.Proposal{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.Propose(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/proposals/{id}",
			Summary:  "One proposal, with what it would change and what people would feel",
			Role:     viewer,
			Response: api.Proposal{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Changes.Proposal(c.Context(), c.Params("id")) },
		},
		{
			Method:   put,
			Path:     "/proposals/{id}",
			Summary:  "Replace what is proposed; it has to be approved anew",
			Role:     engineer,
			Request:  api.NewProposal{},
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				in, err := body[api.NewProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.ChangeProposal(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   post,
			Path:     "/proposals/{id}/approve",
			Summary:  "Approve what somebody else proposed",
			Role:     engineer,
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Changes.ApproveProposal(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   post,
			Path:     "/proposals/{id}/apply",
			Summary:  "Make the change now, or in a window",
			Role:     engineer,
			Request:  api.ApplyProposal{},
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				in, err := body[api.ApplyProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.ApplyProposal(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   post,
			Path:     "/proposals/{id}/withdraw",
			Summary:  "End a proposal without making the change",
			Role:     engineer,
			Request:  api.WithdrawProposal{},
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				in, err := body[api.WithdrawProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.WithdrawProposal(c.Context(), c.who, c.Params("id"), in.Note)
			},
		},
		{
			Method:   get,
			Path:     "/review",
			Summary:  "Which changes need a second person",
			Role:     viewer,
			Response: config.Review{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Changes.Review(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/review",
			Summary:  "Say which changes need a second person",
			Role:     owner,
			Request:  config.Review{},
			Response: config.Review{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Review](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Changes.SetReview(c.Context(), c.who, in)
			},
		},
	}
}

// timeQuery reads a time of the query, if it is there.
func timeQuery(c *call, name string, into *time.Time) error {
	text := c.Query(name)
	if text == "" {
		return nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return &api.Problem{
			Type:   "about:blank",
			Status: http.StatusBadRequest,
			Title:  "A time can't be read",
			Code:   "time",
			Detail: "The query's " + name + " is no time such as 2026-11-23T09:30:00Z.",
		}
	}
	*into = at
	return nil
}

// journalRoutes are the operations on the journal.
func journalRoutes() []route {
	const viewer, owner = ground.RoleViewer, ground.RoleOwner
	get := http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/journal/verify",
			Summary:  "Walk the journal's chain of hashes; has is a hash that was noted before and must be among them",
			Role:     viewer,
			Query:    []string{"has"},
			Response: api.JournalVerdict{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.VerifyJournal(c.Context(), c.Query("has"))
			},
		},
		{
			Method:   get,
			Path:     "/journal/export",
			Summary:  "The journal from a line on, up to 5,000 lines in their order, a JSON object in each",
			Role:     owner,
			Query:    []string{"from"},
			Media:    "application/jsonl",
			Response: []byte{},
			handle: func(c *call) (any, error) {
				from, _ := strconv.ParseInt(c.Query("from"), 10, 64)
				if err := c.s.Gate.Taken(c.Context(), c.who, "journal", "the journal"); err != nil {
					return nil, err
				}
				return c.s.Gate.ExportJournal(c.Context(), from)
			},
		},
		{
			Method:   get,
			Path:     "/journal",
			Summary:  "Who changed what, the newest first",
			Role:     viewer,
			Query:    []string{"search", "after", "limit", "object"},
			Response: api.List[api.JournalEntry]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Journal(c.Context(), c.who, page(c), c.Query("object"))
			},
		},
	}
}
