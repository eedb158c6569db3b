package node_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/gate/node"
	"innergate/nodes"
	"innergate/store"
	"innergate/testbed"
)

// others stand for the nodes: two of them, of which the first leads.
type others struct{ relieved, removed int }

func (o *others) Members(context.Context) ([]nodes.Member, error) {
	if o.removed > 0 {
		return []nodes.Member{{ID: 1, Address: "10.0.0.1:8424", Role: "voter", Leads: true, Own: true}}, nil
	}
	return []nodes.Member{{ID: 1, Address: "10.0.0.1:8424", Role: "voter", Leads: true, Own: true}, {ID: 2, Address: "10.0.0.2:8424"}}, nil
}
func (o *others) Leads(context.Context) bool           { return true }
func (o *others) Relieve(context.Context) error        { o.relieved++; return nil }
func (o *others) Remove(context.Context, uint64) error { o.removed++; return nil }

// joining is what a machine sends that has a key, and the key with which it knows the secret.
func joining(t *testing.T, text, address string, public any) (api.JoinNode, *nodes.Invitation) {
	t.Helper()
	i, err := nodes.ReadInvitation(text)
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	return api.JoinNode{Invitation: i.ID, Address: address, PublicKey: der,
		Proof: nodes.Proof(i.Secret, nodes.AboutJoining, der, []byte(address))}, i
}

// TestAMachineJoinsOnceWithAKey gives a certificate to whoever has a key, once, within its hour, and to nobody else.
func TestAMachineJoinsOnceWithAKey(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), t.Context()
	_, err := l.Node.Invite(ctx, testbed.Owner)
	assert.Equal(t, 409, testbed.Status(err), "alone")
	list, err := l.Node.Nodes(ctx)
	require.NoError(t, err)
	assert.True(t, list.Alone)

	l.Node.Together = &others{}
	a, err := nodes.NewAuthority(l.Now())
	require.NoError(t, err)
	require.NoError(t, l.Node.KeepAuthority(ctx, a))
	key, err := nodes.NewKey()
	require.NoError(t, err)
	invite := func() string {
		k, err := l.Node.Invite(ctx, testbed.Owner)
		require.NoError(t, err)
		return k.Key
	}
	text := invite()
	refused := func(what string, change func(*api.JoinNode)) {
		in, _ := joining(t, text, "10.0.0.3:8424", &key.PublicKey)
		change(&in)
		_, err := l.Node.Join(ctx, in, "192.0.2.1")
		assert.Contains(t, []int{400, 403}, testbed.Status(err), what)
	}
	refused("a key that was never given out", func(in *api.JoinNode) { in.Invitation = "01ARZ3NDEKTSV4RRFFQ69G5FAV" })
	refused("without the secret", func(in *api.JoinNode) { in.Proof = make([]byte, 32) })
	refused("the proof of another address", func(in *api.JoinNode) { in.Address = "10.0.0.4:8424" })
	other, err := nodes.NewKey()
	require.NoError(t, err)
	refused("the proof of another key", func(in *api.JoinNode) {
		in.PublicKey, err = x509.MarshalPKIXPublicKey(&other.PublicKey)
		require.NoError(t, err)
	})
	for _, address := range []string{"0.0.0.0:8424", "[::]:8424", "10.0.0.3", "10.0.0.3:0", ":8424"} {
		in, _ := joining(t, text, address, &key.PublicKey)
		_, err := l.Node.Join(ctx, in, "")
		assert.Equal(t, 400, testbed.Status(err), address)
	}
	plain, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	in, _ := joining(t, text, "10.0.0.3:8424", plain)
	_, err = l.Node.Join(ctx, in, "")
	assert.Equal(t, 400, testbed.Status(err), "a key of another kind")

	in, i := joining(t, text, "10.0.0.3:8424", &key.PublicKey)
	got, err := l.Node.Join(ctx, in, "192.0.2.1")
	require.NoError(t, err)
	there := []byte(strings.Join(got.Others, " "))
	assert.Equal(t, nodes.Proof(i.Secret, nodes.AboutJoined, got.Certificate, got.Authority, there), got.Proof,
		"it proves that it knows the key as well")
	c, err := x509.ParseCertificate(got.Certificate)
	require.NoError(t, err)
	require.NoError(t, c.CheckSignatureFrom(a.Certificate))
	assert.True(t, key.PublicKey.Equal(c.PublicKey.(*ecdsa.PublicKey)))
	assert.False(t, c.IsCA)
	assert.Equal(t, []string{"10.0.0.1:8424", "10.0.0.2:8424"}, got.Others)
	_, err = l.Node.Join(ctx, in, "192.0.2.1")
	assert.Equal(t, 403, testbed.Status(err), "a second time")

	in, _ = joining(t, invite(), "10.0.0.3:8424", &key.PublicKey)
	l.Turn(61 * time.Minute)
	_, err = l.Node.Join(ctx, in, "")
	assert.Equal(t, 403, testbed.Status(err), "too late")
	require.NoError(t, l.Tidy(ctx))
}

// TestNodesAreRelievedAndRemoved takes out a node that does not lead, and no other.
func TestNodesAreRelievedAndRemoved(t *testing.T) {
	t.Parallel()
	l, ctx, o := testbed.NewLab(t), t.Context(), &others{}
	assert.Equal(t, 409, testbed.Status(l.Node.Relieve(ctx, testbed.Owner)))
	assert.Equal(t, 409, testbed.Status(l.Node.Remove(ctx, testbed.Owner, "2")))
	l.Node.Together = o
	require.NoError(t, l.Node.Relieve(ctx, testbed.Owner))
	assert.Equal(t, 1, o.relieved)
	assert.Equal(t, 409, testbed.Status(l.Node.Remove(ctx, testbed.Owner, "1")), "it leads")
	for _, none := range []string{"3", "x", ""} {
		assert.Equal(t, 404, testbed.Status(l.Node.Remove(ctx, testbed.Owner, none)), none)
	}
	require.NoError(t, l.Node.Remove(ctx, testbed.Owner, "2"))
	assert.Equal(t, 1, o.removed)
	verdict, err := l.VerifyJournal(ctx, "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole)
}

// TestFindingsOfNodes says what is wrong with nodes, and nothing where all is well.
func TestFindingsOfNodes(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	soon, later := now.AddDate(0, 0, 20), now.AddDate(1, 0, 0)
	well := func() []api.Node {
		return []api.Node{
			{Address: "a", Role: "voter", Own: true, Answers: true, Version: "1", Ends: &later},
			{Address: "b", Role: "voter", Answers: true, Version: "1", Ends: &later, Ahead: 1500},
			{Address: "c", Role: "voter", Answers: true, Version: "1", Ends: &later},
		}
	}
	for what, c := range map[string]struct {
		change func([]api.Node) []api.Node
		want   []string
	}{
		"all is well": {func(l []api.Node) []api.Node { return l }, nil},
		"down": {func(l []api.Node) []api.Node {
			l[1].Answers = false
			return l
		}, []string{"node.silent", "node.few"}},
		"behind":          {func(l []api.Node) []api.Node { l[2].Role = "spare"; return l }, []string{"node.behind"}},
		"another version": {func(l []api.Node) []api.Node { l[2].Version = "2"; return l }, []string{"node.versions"}},
		"a clock behind":  {func(l []api.Node) []api.Node { l[2].Ahead = -2500; return l }, []string{"node.clocks"}},
		"a certificate":   {func(l []api.Node) []api.Node { l[0].Ends = &soon; return l }, []string{"node.certificate"}},
		"two":             {func(l []api.Node) []api.Node { return l[:2] }, []string{"node.few"}},
	} {
		var codes []string
		for _, f := range node.Findings(c.change(well()), now) {
			codes = append(codes, f.Code)
			assert.NotEmpty(t, f.Remedy)
		}
		assert.Equal(t, c.want, codes, what)
	}
}

// TestANodeRenewsItsCertificate makes another one 90 days before the end, and takes the one before back; one that is removed has none
// that is good.
func TestANodeRenewsItsCertificate(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), t.Context()
	data := t.TempDir()
	require.NoError(t, nodes.Begin(data, nodes.Setup{Address: "10.0.0.1:8424", Errands: testbed.FreeAddress(t)}, l.Now()))
	a, _, err := nodes.TakeAuthority(data)
	require.NoError(t, err)
	require.NoError(t, l.Node.KeepAuthority(ctx, a))
	o, err := nodes.ReadOptions(data)
	require.NoError(t, err)
	first, err := o.Identity.Certificate()
	require.NoError(t, err)
	require.NoError(t, l.Join(ctx, &others{}, o))
	t.Cleanup(l.Node.End)
	require.NoError(t, l.Node.Renew(ctx), "there is time")
	same, err := o.Identity.Certificate()
	require.NoError(t, err)
	assert.Equal(t, first.SerialNumber, same.SerialNumber)
	l.Turn(650 * 24 * time.Hour)
	require.NoError(t, l.Node.Renew(ctx))
	fresh, err := o.Identity.Certificate()
	require.NoError(t, err)
	assert.NotEqual(t, first.SerialNumber, fresh.SerialNumber)
	assert.True(t, fresh.NotAfter.After(first.NotAfter))
	var rows []store.NodeMember
	require.NoError(t, l.Store.Read(ctx).Order("ends").Find(&rows).Error)
	require.Len(t, rows, 2)
	assert.NotNil(t, rows[0].Withdrawn)
	assert.Nil(t, rows[1].Withdrawn)

	require.NoError(t, l.Node.Leave(ctx, testbed.Owner))
	require.NoError(t, l.Store.Read(ctx).Order("ends").Find(&rows).Error)
	assert.NotNil(t, rows[1].Withdrawn, "it has left")
	assert.Equal(t, 409, testbed.Status(l.Node.Leave(ctx, testbed.Owner)), "one alone keeps the records")
}
