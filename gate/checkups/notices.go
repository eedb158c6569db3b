package checkups

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	netmail "net/mail"
	"net/url"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/store"
)

const (
	noticeFindings = 50 // in one notice
	noticeAgain    = 5 * time.Minute
)

func (g *Room) writeNotices(tx *gorm.DB, k *ground.KeptNotices) error {
	return ground.KeepSetting(tx, ground.SettingNotices, ground.MustJSON(k))
}

// Notices are whom the gate tells about new findings.
func (g *Room) Notices(ctx context.Context) (*api.NoticesView, error) {
	k, err := g.KeptNotices(ctx)
	if err != nil {
		return nil, err
	}
	return &api.NoticesView{Notices: k.Notices, HasSecret: len(k.Sealed) > 0, Error: k.Error, LastSent: k.LastSent}, nil
}

// SetNotices says whom the gate tells.
func (g *Room) SetNotices(ctx context.Context, who ground.Actor, in api.SaveNotices) (*api.NoticesView, error) {
	held, err := g.KeptNotices(ctx)
	if err != nil {
		return nil, err
	}
	in.Webhook = strings.TrimSpace(in.Webhook)
	if in.Webhook != "" {
		if u, err := url.Parse(in.Webhook); err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" ||
			len(in.Webhook) > 1000 {
			return nil, ground.BadRequest("webhook", fmt.Sprintf("%q is no http or https address.", words.Clip(in.Webhook, 100)), "")
		}
	}
	if len(in.Mail) > 20 {
		return nil, ground.BadRequest("mail-many", "Twenty mail addresses are the most; use a list's address for more.", "")
	}
	for _, a := range in.Mail {
		if _, err := netmail.ParseAddress(a); err != nil || len(a) > 320 {
			return nil, ground.BadRequest("mail-address", fmt.Sprintf("%q is no mail address.", words.Clip(a, 100)), "")
		}
	}
	if in.From == "" {
		in.From = checkup.Attention
	}
	if in.From != checkup.Broken && in.From != checkup.Attention && in.From != checkup.Remark {
		return nil, ground.BadRequest("severity", fmt.Sprintf("%q is no severity; broken, attention and remark are.", in.From), "")
	}
	fresh := &ground.KeptNotices{Notices: in.Notices, LastSent: held.LastSent}
	switch {
	case in.Secret != nil && len(*in.Secret) > 200:
		return nil, ground.BadRequest("secret", "The secret has more than 200 characters.", "")
	case in.Secret != nil && *in.Secret != "":
		fresh.Sealed = g.Store.Sealer.Seal(store.PlaceSetting, ground.SettingNotices, []byte(*in.Secret))
	case in.Secret == nil && held.Webhook == in.Webhook:
		fresh.Sealed = held.Sealed
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.StoreSetting(tx, who, ground.SettingNotices, "whom new findings are told", ground.MustJSON(fresh),
			ground.MustJSON(held.Notices), ground.MustJSON(in.Notices))
	}); err != nil {
		return nil, err
	}
	return g.Notices(ctx)
}

// notice is what the webhook gets.
type notice struct {
	Gate     string            `json:"gate"`
	At       time.Time         `json:"at"`
	Findings []api.KeptFinding `json:"findings"`
	More     int               `json:"more"`
}

// tell sends word of findings that are new and that nobody accepted, in one message. What could not be sent is tried
// again later.
func (g *Room) tell(ctx context.Context) error {
	k, err := g.KeptNotices(ctx)
	if err != nil || k.Webhook == "" && len(k.Mail) == 0 || g.Now().Sub(k.FailedAt) < noticeAgain {
		return err
	}
	var rows []store.KeptFinding
	if err := g.Store.Read(ctx).Where("gone_at IS NULL AND told_at IS NULL AND (accepted_until IS NULL OR accepted_until <= ?)",
		g.Now().UTC()).Order("CASE severity WHEN 'broken' THEN 0 ELSE 1 END, id").Limit(2000).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	n := notice{Gate: g.PublicURL, At: g.Now().UTC()}
	var ids []string
	for _, r := range rows {
		if !severest(r.Severity, k.From) {
			continue
		}
		if ids = append(ids, r.ID); len(n.Findings) < noticeFindings {
			n.Findings = append(n.Findings, g.keptView(r))
		} else {
			n.More++
		}
	}
	if len(ids) == 0 {
		return nil
	}
	k.Error, k.FailedAt = "", time.Time{}
	if err := g.send(ctx, k, n); err != nil {
		k.Error, k.FailedAt, ids = words.Capitalise(words.Clip(err.Error(), 300)), g.Now().UTC(), nil
		g.Log.WarnContext(ctx, "new findings could not be told", "error", err)
	} else {
		now := g.Now().UTC()
		k.LastSent = &now
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		for i := 0; i < len(ids); i += 500 {
			if err := tx.Exec("UPDATE kept_findings SET told_at = ? WHERE id IN ?", g.Now().UTC(),
				ids[i:min(i+500, len(ids))]).Error; err != nil {
				return err
			}
		}
		return g.writeNotices(tx, k)
	})
}

func (g *Room) send(ctx context.Context, k *ground.KeptNotices, n notice) error {
	if k.Webhook != "" {
		body, err := json.Marshal(n)
		if err != nil {
			return err
		}
		header := map[string]string{}
		if len(k.Sealed) > 0 {
			secret, err := g.Store.Sealer.Open(store.PlaceSetting, ground.SettingNotices, k.Sealed)
			if err != nil {
				return err
			}
			sum := hmac.New(sha256.New, secret)
			sum.Write(body)
			header["X-Innergate-Signature"] = hex.EncodeToString(sum.Sum(nil))
		}
		got, err := g.Fetch.Do(
			ctx,
			fetch.Want{
				URL:         k.Webhook,
				Post:        body,
				ContentType: "application/json",
				Header:      header,
				AnyStatus:   true,
				MaxBytes:    64 << 10,
				Timeout:     10 * time.Second,
			},
		)
		if err != nil {
			return err
		}
		if got.Status >= http.StatusMultipleChoices {
			return fmt.Errorf("the webhook answers with the status %d", got.Status)
		}
	}
	if len(k.Mail) == 0 {
		return nil
	}
	var b strings.Builder
	fmt.Fprintf(&b, "The gate at %s found something new.\n", g.PublicURL)
	for _, f := range n.Findings {
		fmt.Fprintf(&b, "\n%s: %s\n%s %s\n%s\n", strings.ToUpper(f.Severity), f.Name, f.Title, "("+f.Code+")", f.Detail)
		if f.Remedy != "" {
			b.WriteString(f.Remedy + "\n")
		}
	}
	if n.More > 0 {
		fmt.Fprintf(&b, "\n... and %d more.\n", n.More)
	}
	b.WriteString("\n" + g.PublicURL + "/console/checkup\n")
	for _, to := range k.Mail {
		if err := g.SendMail(ctx, to, fmt.Sprintf("Inner Gate: %d new findings", len(n.Findings)+n.More), b.String()); err != nil {
			return err
		}
	}
	return nil
}
