package accounts

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/scim"
	"innergate/core/words"
	"innergate/gate/partners"
	"innergate/store"
)

// able is what an application can do, as it was last read; nothing where it was never asked.
func (g *Room) able(ctx context.Context, app *partners.Application) (*abilities, error) {
	pump, err := store.One[store.AccountPump](g.Store.Read(ctx), "application_id = ?", app.ID)
	if err != nil {
		return nil, err
	}
	var at time.Time
	if pump.AbilitiesAt != nil {
		at = *pump.AbilitiesAt
	}
	if held, ok := g.kinds.Load(app.ID); ok && held.(*abilities).At.Equal(at) {
		return held.(*abilities), nil
	}
	a := &abilities{}
	if pump.Abilities != "" {
		if err := json.Unmarshal([]byte(pump.Abilities), a); err != nil {
			return nil, err
		}
	}
	a.At, a.users = at, scim.Users.With(a.Users, a.Joined)
	g.kinds.Store(app.ID, a)
	return a, nil
}

// learn asks an application what it can do (RFC 7644, section 4). Many answer less than the standard wants: what is not said counts as
// not possible, except for what everybody must do.
func (t *talk) learn(ctx context.Context) (*abilities, []string, error) {
	a := &abilities{}
	var remarks []string
	r, err := t.ask(ctx, http.MethodGet, "/ServiceProviderConfig", nil, "")
	if err != nil {
		return nil, nil, err
	}
	if in, refused := scim.Read(r.body); r.status == http.StatusOK && refused == nil {
		a.Can, a.Asked = scim.ReadAbilities(in), true
	} else {
		remarks = append(remarks, "It does not say what it can do: changed accounts are put back whole.")
	}
	types, err := t.list(ctx, "/ResourceTypes")
	if err != nil {
		return nil, nil, err
	}
	for _, one := range types {
		if name, _ := scim.Field(one, "name").(string); !strings.EqualFold(name, scim.Users.Name) {
			continue
		}
		list, _ := scim.Field(one, "schemaExtensions").([]any)
		for _, e := range list {
			o, _ := e.(map[string]any)
			if uri, ok := scim.Field(o, "schema").(string); ok && len(a.Joined) < 20 {
				a.Joined = append(a.Joined, uri)
			}
		}
	}
	schemas, err := t.list(ctx, "/Schemas")
	if err != nil {
		return nil, nil, err
	}
	for _, one := range schemas {
		var s scim.Schema
		data, _ := json.Marshal(one) // it was read as JSON
		if json.Unmarshal(data, &s) == nil && s.ID != "" && len(s.Attributes) > 0 && !strings.EqualFold(s.ID, scim.GroupSchema) {
			s.Meta, s.Schemas = nil, nil
			a.Users = append(a.Users, s)
		}
	}
	if len(a.Users) == 0 {
		remarks = append(remarks, "It does not show its schemas: those of the standard count.")
	}
	return a, remarks, nil
}

// list reads a short list, or nothing where the application has none.
func (t *talk) list(ctx context.Context, path string) ([]scim.Resource, error) {
	r, err := t.ask(ctx, http.MethodGet, path, nil, "")
	if err != nil || r.status != http.StatusOK {
		return nil, err
	}
	page, refused := scim.ReadPage(r.body)
	if refused != nil || len(page.Items) > 50 {
		return nil, nil
	}
	return page.Items, nil
}

// keepAbilities writes down what an application can do.
func (g *Room) keepAbilities(ctx context.Context, app *partners.Application, a *abilities) error {
	now := g.Now().UTC()
	data, err := json.Marshal(a)
	if err != nil {
		return err
	}
	if len(data) > 1<<20 {
		return explain.New(explain.SCIMUnreadable, explain.Fact("answer", words.Clip("its schemas have more than a MiB", 100))).Of(app.Name)
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return savePump(tx, app.ID, map[string]any{"abilities": string(data), "abilities_at": now})
	})
}

// savePump writes some values of how an application's accounts stand as a whole.
func savePump(tx *gorm.DB, applicationID string, values map[string]any) error {
	if err := tx.Exec("INSERT INTO account_pumps (application_id, holder, until, abilities, tries, code, reason, asking) "+
		"VALUES (?, '', ?, '', 0, '', '', 0) ON CONFLICT DO NOTHING", applicationID, time.Time{}).Error; err != nil {
		return err
	}
	return tx.Table("account_pumps").Where("application_id = ?", applicationID).Updates(values).Error
}
