package node

import (
	"context"
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/x509"
	"encoding/base64"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/nodes"
	"innergate/store"
)

const (
	settingAuthority = "nodes"
	invitationLife   = time.Hour
)

func alone() error {
	return ground.Conflict("alone", "This gate keeps its records alone; there are no nodes.",
		"`innergate node begin` makes a machine the first of some.")
}

// Nodes lists them.
func (g *Room) Nodes(ctx context.Context) (*api.Nodes, error) {
	out := &api.Nodes{Nodes: []api.Node{}, Alone: g.Together == nil, Findings: []api.Finding{}}
	if out.Alone {
		return out, nil
	}
	list, err := g.Together.Members(ctx)
	if err != nil {
		return nil, ground.Problem(http.StatusServiceUnavailable, "no-majority", "Most of the nodes can't be reached", err.Error()+".",
			"Start the nodes that are down. Until most of them run, nothing can be written.")
	}
	states, err := g.states(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range list {
		n := api.Node{ID: strconv.FormatUint(m.ID, 16), Address: m.Address, Role: m.Role, Leads: m.Leads, Own: m.Own}
		if s, ok := states[m.Address]; ok {
			n.Answers, n.Version, n.Began, n.Ends, n.Ahead = true, s.Version, &s.Began, &s.Ends, s.ahead.Milliseconds()
		}
		out.Nodes = append(out.Nodes, n)
	}
	out.Findings = Findings(out.Nodes, g.Now())
	return out, nil
}

// KeepAuthority takes the authority of the nodes, which the first of them has made, into the records, sealed.
func (g *Room) KeepAuthority(ctx context.Context, a *nodes.Authority) error {
	text, err := a.PEM()
	if err != nil {
		return err
	}
	sealed := base64.StdEncoding.EncodeToString(g.Store.Sealer.Seal(store.PlaceSetting, settingAuthority, text))
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return ground.FirstSetting(tx, settingAuthority, ground.MustJSON(map[string]string{"sealed": sealed}))
	})
}

func (g *Room) authority(ctx context.Context) (*nodes.Authority, error) {
	row, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", settingAuthority)
	if err != nil {
		return nil, err
	}
	if row.Name == "" {
		return nil, alone()
	}
	held, err := ground.DecodeBody[struct{ Sealed []byte }](row.Value)
	if err != nil {
		return nil, err
	}
	text, err := g.Store.Sealer.Open(store.PlaceSetting, settingAuthority, held.Sealed)
	if err != nil {
		return nil, err
	}
	return nodes.ReadAuthority(text)
}

// Invite makes a key with which one machine becomes a node, within an hour.
func (g *Room) Invite(ctx context.Context, who ground.Actor) (*api.NodeKey, error) {
	if g.Together == nil {
		return nil, alone()
	}
	now := g.Now().UTC()
	i, err := nodes.NewInvitation(g.PublicURL, store.NewIDAt(now))
	if err != nil {
		return nil, err
	}
	text, err := i.Text()
	if err != nil {
		return nil, err
	}
	row := store.NodeInvitation{ID: i.ID, Sealed: g.Store.Sealer.Seal(store.PlaceNode, i.ID, i.Secret), ExpiresAt: now.Add(invitationLife)}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "invited a node", "gate", "nodes", "Nodes", "", "")
	})
	return &api.NodeKey{Key: text, Expires: row.ExpiresAt}, err
}

// errNotInvited says no more than it must to somebody who has no key.
func errNotInvited() error {
	return ground.Problem(http.StatusForbidden, "not-invited", "This key is not good",
		"It was used, it is older than an hour, or it was never given out.", "Have `innergate node invite` print another one.")
}

// Join gives a machine that was invited a certificate, once, and says where the others are.
func (g *Room) Join(ctx context.Context, in api.JoinNode, from string) (*api.NodeJoined, error) {
	row, err := store.One[store.NodeInvitation](g.Store.Read(ctx), "id = ? AND expires_at > ?", in.Invitation, g.Now().UTC())
	if err != nil {
		return nil, err
	}
	if row.ID == "" || g.Together == nil {
		return nil, errNotInvited()
	}
	secret, err := g.Store.Sealer.Open(store.PlaceNode, row.ID, row.Sealed)
	if err != nil {
		return nil, err
	}
	if !hmac.Equal(in.Proof, nodes.Proof(secret, nodes.AboutJoining, in.PublicKey, []byte(in.Address))) {
		return nil, errNotInvited()
	}
	if err := nodes.CheckAddress(in.Address); err != nil {
		return nil, ground.BadRequest("address", err.Error()+".", "")
	}
	public, err := publicKey(in.PublicKey)
	if err != nil {
		return nil, err
	}
	a, err := g.authority(ctx)
	if err != nil {
		return nil, err
	}
	members, err := g.Together.Members(ctx)
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	out := &api.NodeJoined{Authority: a.Certificate.Raw}
	for _, m := range members {
		out.Others = append(out.Others, m.Address)
	}
	if out.Certificate, err = a.Sign(public, now); err != nil {
		return nil, err
	}
	out.Proof = nodes.Proof(secret, nodes.AboutJoined, out.Certificate, out.Authority, []byte(strings.Join(out.Others, " ")))
	certificate, err := x509.ParseCertificate(out.Certificate)
	if err != nil {
		return nil, err
	}
	member := store.NodeMember{Serial: nodes.SerialOf(certificate), Address: in.Address, Ends: certificate.NotAfter}
	return out, g.Store.Write(ctx, func(tx *gorm.DB) error {
		used, err := store.Exec(tx, "DELETE FROM node_invitations WHERE id = ?", row.ID)
		if err == nil && used == 0 {
			err = errNotInvited()
		}
		if err != nil {
			return err
		}
		if err := tx.Create(&member).Error; err != nil {
			return err
		}
		joined := ground.Actor{ID: "node/" + in.Address, Name: "node " + in.Address, From: from}
		return ground.Journal(tx, now, joined, "joined as a node", "gate", "nodes", "Nodes", "", in.Address)
	})
}

func publicKey(der []byte) (*ecdsa.PublicKey, error) {
	key, err := x509.ParsePKIXPublicKey(der)
	own, ok := key.(*ecdsa.PublicKey)
	if err != nil || !ok {
		return nil, ground.BadRequest("publicKey", "The public key is none that a node has.", "")
	}
	return own, nil
}

// Relieve has another node take the lead, before this one is worked on.
func (g *Room) Relieve(ctx context.Context, who ground.Actor) error {
	if g.Together == nil {
		return alone()
	}
	if err := g.note(ctx, who, "relieved a node", ""); err != nil {
		return err
	}
	if err := g.Together.Relieve(ctx); err != nil {
		return ground.Conflict("no-other", "No other node can take over: "+err.Error()+".", "Start another node first.")
	}
	return nil
}

// Remove takes a node that will not come back out of those that keep the records.
func (g *Room) Remove(ctx context.Context, who ground.Actor, id string) error {
	if g.Together == nil {
		return alone()
	}
	number, err := strconv.ParseUint(id, 16, 64)
	if err != nil {
		return ground.NotFound("node", id)
	}
	members, err := g.Together.Members(ctx)
	if err != nil {
		return err
	}
	for _, m := range members {
		if m.ID != number {
			continue
		}
		if m.Leads {
			return ground.Conflict("leads", "This node leads. It can't be removed while it does.", "Relieve it, or stop it, first.")
		}
		return g.out(ctx, who, m, "removed a node")
	}
	return ground.NotFound("node", id)
}

// Leave has the node that answers pass on what it does, and takes it out of those that keep the records. It is stopped then.
func (g *Room) Leave(ctx context.Context, who ground.Actor) error {
	if g.Together == nil {
		return alone()
	}
	members, err := g.Together.Members(ctx)
	if err != nil {
		return err
	}
	own := slices.IndexFunc(members, func(m nodes.Member) bool { return m.Own })
	if own < 0 {
		return ground.Conflict("not-there", "This node is none of those that keep the records any more.", "Stop the service here.")
	}
	if len(members) < 2 {
		return ground.Conflict("last", "This is the last node; nothing would keep the records.", "Have another machine join first.")
	}
	if err := g.Together.Relieve(ctx); err != nil {
		return ground.Conflict("no-other", "No other node can take over: "+err.Error()+".", "Start another node first.")
	}
	return g.out(ctx, who, members[own], "left the nodes")
}

// out takes a node out of those that keep the records, with its certificates.
func (g *Room) out(ctx context.Context, who ground.Actor, m nodes.Member, action string) error {
	if err := g.note(ctx, who, action, m.Address); err != nil {
		return err
	}
	if err := g.Together.Remove(ctx, m.ID); err != nil {
		return err
	}
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.NodeMember{}).Where("address = ? AND withdrawn IS NULL", m.Address).Update("withdrawn", now).Error
	})
	if err != nil {
		return err
	}
	return g.Look(ctx)
}

func (g *Room) note(ctx context.Context, who ground.Actor, action, address string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return ground.Journal(tx, g.Now(), who, action, "gate", "nodes", "Nodes", address, "")
	})
}
