package checkups

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/store"
)

const (
	noticeFindings = 50 // in one notice
	toldAtOnce     = 8
	toWebhook      = "webhook"
	// The pauses between tries grow from the first to the last, until a notice is given up.
	noticePause = time.Minute
	longPause   = 6 * time.Hour
	noticeLife  = 48 * time.Hour
	noticesKept = 30 * 24 * time.Hour
	// triedFor is how long somebody who tries a notice has it for himself.
	triedFor = 2 * time.Minute
)

// recipients are those who are told: the webhook, and each mail address.
func recipients(k *ground.KeptNotices) []string {
	var out []string
	if k.Webhook != "" {
		out = append(out, toWebhook)
	}
	return append(out, k.Mail...)
}

// notice is what a recipient gets.
type notice struct {
	Gate     string            `json:"gate"`
	At       time.Time         `json:"at"`
	Findings []api.KeptFinding `json:"findings"`
	More     int               `json:"more"`
}

// Tell sends word of findings that are new and that nobody accepted: they are written down for each recipient first, and then
// each is told for itself.
func (g *Room) Tell(ctx context.Context) error {
	if err := g.noteNew(ctx); err != nil {
		return err
	}
	return g.deliver(ctx)
}

// noteNew writes notices of what nobody was told of yet, as many findings at a time as a transaction should touch.
func (g *Room) noteNew(ctx context.Context) error {
	for {
		k, err := g.KeptNotices(ctx)
		if err != nil || len(recipients(k)) == 0 {
			return err
		}
		if one, err := store.One[store.KeptFinding](untold(g.Store.Read(ctx), k.From, g.Now()), "1 = 1"); err != nil || one.ID == "" {
			return err
		}
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.noteSome(tx) }); err != nil {
			return err
		}
	}
}

// untold are findings from a severity on that nobody was told of or has accepted.
func untold(db *gorm.DB, from string, now time.Time) *gorm.DB {
	return db.Where("gone_at IS NULL AND told_at IS NULL AND severity IN ? AND (accepted_until IS NULL OR accepted_until <= ?)",
		fromOn(from), now.UTC())
}

// noteSome writes a notice for each recipient, in the transaction that notes the findings as told.
func (g *Room) noteSome(tx *gorm.DB) error {
	k, err := g.KeptNoticesIn(tx)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	var rows []store.KeptFinding
	if err := untold(tx, k.From, now).Order("CASE severity WHEN 'broken' THEN 0 ELSE 1 END, id").Limit(ground.AtOnce).Find(&rows).
		Error; err != nil {
		return err
	}
	n := notice{Gate: g.PublicURL, At: now, More: max(0, len(rows)-noticeFindings)}
	var ids []string
	for i, r := range rows {
		if ids = append(ids, r.ID); i < noticeFindings {
			n.Findings = append(n.Findings, g.keptView(r))
		}
	}
	if len(ids) == 0 {
		return nil // another process has noted them
	}
	for _, to := range recipients(k) {
		if err := tx.Create(&store.Notice{
			ID: store.NewIDAt(now), Recipient: to, Body: ground.MustJSON(n), CreatedAt: now, NextAt: now,
		}).Error; err != nil {
			return err
		}
	}
	return tx.Exec("UPDATE kept_findings SET told_at = ? WHERE id IN ?", now, ids).Error
}

// deliver tries the notices whose time has come, side by side: one recipient that can't be reached holds up no other.
func (g *Room) deliver(ctx context.Context) error {
	now := g.Now().UTC()
	var due []store.Notice
	if err := g.Store.Read(ctx).Where("sent_at IS NULL AND lost_at IS NULL AND next_at <= ?", now).Order("next_at").Limit(50).Find(&due).
		Error; err != nil || len(due) == 0 {
		return store.Clear(err)
	}
	k, err := g.KeptNotices(ctx)
	if err != nil {
		return err
	}
	var work errgroup.Group
	work.SetLimit(toldAtOnce)
	for i := range due {
		work.Go(func() error {
			mine, err := g.take(ctx, &due[i], now)
			if err != nil || !mine { // another process tries it
				return err
			}
			return g.settle(ctx, &due[i], g.send(ctx, k, &due[i]))
		})
	}
	return work.Wait()
}

// take has nobody else try a notice for a while.
func (g *Room) take(ctx context.Context, n *store.Notice, now time.Time) (mine bool, err error) {
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		taken, err := store.Exec(tx, "UPDATE notices SET next_at = ? WHERE id = ? AND sent_at IS NULL AND next_at = ?", now.Add(triedFor),
			n.ID, n.NextAt)
		mine = taken > 0
		return err
	})
	return mine, err
}

// settle writes down how a try came out.
func (g *Room) settle(ctx context.Context, n *store.Notice, failed error) error {
	now := g.Now().UTC()
	values := map[string]any{"sent_at": now, "error": "", "tries": n.Tries + 1}
	if failed != nil {
		why := words.Capitalise(words.Clip(failed.Error(), 300))
		values = map[string]any{"error": why, "tries": n.Tries + 1, "next_at": now.Add(min(noticePause<<min(n.Tries, 10), longPause))}
		if now.Sub(n.CreatedAt) > noticeLife {
			values["lost_at"] = now
		}
		g.Log.WarnContext(ctx, "new findings could not be told", "recipient", n.Recipient, "tries", n.Tries+1, "error", failed)
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.Notice{}).Where("id = ? AND sent_at IS NULL", n.ID).Updates(values).Error
	})
}

// Tidy forgets notices that were sent or given up long ago.
func (g *Room) Tidy(t *ground.Tidying) error {
	old := t.Now.Add(-noticesKept)
	return t.Delete(ground.Over{Model: &store.Notice{}, Where: "sent_at < ?", Arg: old},
		ground.Over{Model: &store.Notice{}, Where: "lost_at < ?", Arg: old})
}

// delivery is how telling stands with one recipient.
func (g *Room) delivery(ctx context.Context, to string) (*api.Delivery, error) {
	d := &api.Delivery{To: to}
	last, err := store.One[store.Notice](g.Store.Read(ctx).Order("sent_at DESC"), "recipient = ? AND sent_at IS NOT NULL", to)
	if err != nil {
		return nil, err
	}
	d.LastSent = last.SentAt
	var waiting []store.Notice
	if err := g.Store.Read(ctx).Where("recipient = ? AND sent_at IS NULL AND lost_at IS NULL", to).Order("next_at").Limit(1000).
		Find(&waiting).Error; err != nil {
		return nil, store.Clear(err)
	}
	if d.Waiting = len(waiting); d.Waiting > 0 {
		w := waiting[0]
		d.Tries, d.Error, d.Next = w.Tries, w.Error, &w.NextAt
		for _, o := range waiting {
			d.Error = words.FirstOf(d.Error, o.Error)
		}
	}
	return d, nil
}

func (g *Room) send(ctx context.Context, k *ground.KeptNotices, row *store.Notice) error {
	if row.Recipient == toWebhook {
		return g.callWebhook(ctx, k, []byte(row.Body))
	}
	var n notice
	if err := json.Unmarshal([]byte(row.Body), &n); err != nil {
		return err
	}
	return g.SendMail(ctx, row.Recipient, fmt.Sprintf("Inner Gate: %d new findings", len(n.Findings)+n.More), g.noticeMail(&n))
}

func (g *Room) callWebhook(ctx context.Context, k *ground.KeptNotices, body []byte) error {
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
	got, err := g.Fetch.Do(ctx, fetch.Want{
		URL:         k.Webhook,
		Post:        body,
		ContentType: "application/json",
		Header:      header,
		AnyStatus:   true,
		MaxBytes:    64 << 10,
		Timeout:     10 * time.Second,
	})
	if err != nil {
		return err
	}
	if got.Status >= http.StatusMultipleChoices {
		return fmt.Errorf("the webhook answers with the status %d", got.Status)
	}
	return nil
}

func (g *Room) noticeMail(n *notice) string {
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
	return b.String()
}
