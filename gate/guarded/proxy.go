package guarded

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"sync"

	"gorm.io/gorm"

	"innergate/core/keys"
	"innergate/gate/ground"
	"innergate/store"
)

// settingProxy names the setting from which the secrets of reverse proxies are made. A proxy of one's own that passes
// requests on asks the gate about each; the answer holds what the application is to get, credentials among it, so it is
// given to nobody but the proxy, whatever network asks.
const settingProxy = "guard-proxies"

type proxyKey struct {
	mu  sync.Mutex
	key []byte
}

type keptProxyKey struct {
	Sealed []byte `json:"sealed"`
}

// proxyKey is what the secrets are made from, made once.
func (g *Room) proxyKey(ctx context.Context) ([]byte, error) {
	g.proxies.mu.Lock()
	defer g.proxies.mu.Unlock()
	if g.proxies.key != nil {
		return g.proxies.key, nil
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		row, err := store.One[store.Setting](tx, "name = ?", settingProxy)
		if err != nil {
			return err
		}
		if row.Value != "" {
			var k keptProxyKey
			if err := json.Unmarshal([]byte(row.Value), &k); err != nil {
				return err
			}
			g.proxies.key, err = g.Store.Sealer.Open(store.PlaceSetting, settingProxy, k.Sealed)
			return err
		}
		g.proxies.key = []byte(keys.NewSecret())
		sealed := g.Store.Sealer.Seal(store.PlaceSetting, settingProxy, g.proxies.key)
		return ground.KeepSetting(tx, settingProxy, ground.MustJSON(keptProxyKey{sealed}))
	})
	if err != nil {
		g.proxies.key = nil
	}
	return g.proxies.key, err
}

// ProxySecret is what the reverse proxy of one application shows when it asks about a request.
func (g *Room) ProxySecret(ctx context.Context, applicationID string) (string, error) {
	key, err := g.proxyKey(ctx)
	if err != nil {
		return "", err
	}
	sum := hmac.New(sha256.New, key)
	sum.Write([]byte(applicationID))
	return base64.RawURLEncoding.EncodeToString(sum.Sum(nil)), nil
}

// IsProxy says whether a secret is that of the application's own reverse proxy.
func (g *Room) IsProxy(ctx context.Context, a *Guarded, secret string) (bool, error) {
	own, err := g.ProxySecret(ctx, a.app.ID)
	return err == nil && subtle.ConstantTimeCompare([]byte(own), []byte(secret)) == 1, err
}
