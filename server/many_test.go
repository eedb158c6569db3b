package server_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/client"
	"innergate/demo"
	"innergate/store"
)

// TestReportsKeepNobodyFromSigningIn fills the store with 4,000 applications and 400 providers, asks for four reports by
// provider at once, and signs in beside them.
func TestReportsKeepNobodyFromSigningIn(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	const apps, providers = 4000, 400
	require.NoError(t, w.Gate.Store.Write(ctx, func(tx *gorm.DB) error {
		for i := range providers {
			p := store.Provider{
				Object: store.Object{
					ID:        fmt.Sprintf("p%05d", i),
					Slug:      fmt.Sprintf("provider-%d", i),
					Name:      fmt.Sprintf("P %d", i),
					Kind:      "directory",
					Reach:     "draft",
					Body:      `{"kind":"directory","directory":{}}`,
					CreatedAt: time.Now(),
				},
			}
			if err := tx.Create(&p).Error; err != nil {
				return err
			}
		}
		for i := range apps {
			body := fmt.Sprintf(`{"kind":"link","providers":["provider-%d","provider-%d"]}`, i%providers, (i+1)%providers)
			a := store.Application{
				Object: store.Object{ID: fmt.Sprintf("a%05d", i), Slug: fmt.Sprintf("app-%d", i), Name: fmt.Sprintf("A %d", i),
					Kind: "link", Reach: "draft", Body: body, CreatedAt: time.Now()},
			}
			if err := tx.Create(&a).Error; err != nil {
				return err
			}
		}
		return nil
	}))
	report := func() (count, used int, took time.Duration) {
		began := time.Now()
		r, err := w.Client().Report(ctx, "provider", client.Page{Limit: 500})
		if !assert.NoError(t, err) {
			return 0, 0, 0
		}
		for _, l := range r.Items {
			if l.Slug == "provider-7" {
				used = len(l.Providers)
			}
		}
		return r.Count, used, time.Since(began)
	}
	count, used, took := report()
	assert.Greater(t, count, providers)
	assert.Equal(t, 2*apps/providers, used)
	t.Logf("the report took %s", took)
	assert.Less(t, took, 3*time.Second)

	var all sync.WaitGroup
	for range 4 {
		all.Go(func() { report() })
	}
	for range 5 {
		assert.NoError(t, demo.NewWalker(nil).SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	}
	all.Wait()
	list, err := w.Client().Applications(ctx, client.Page{Limit: 50, Filters: map[string]string{"provider": "provider-7"}})
	require.NoError(t, err)
	assert.Len(t, list.Items, 2*apps/providers)
}
