package exchange_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/saml"
	"innergate/gate/signin"
	"innergate/testbed"
)

// TestASheetSaysWhatOurMetadataSays compares the two ways in which a partner learns of us.
func TestASheetSaysWhatOurMetadataSays(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	sheet, err := l.Exchange.ApplicationSheet(ctx, "rota")
	require.NoError(t, err)
	doc, err := l.Exchange.OurMetadata(ctx, "application", "rota", false)
	require.NoError(t, err)
	read := saml.ReadMetadata(doc, l.Clock)
	require.Len(t, read.Entities, 1)
	values := map[string]bool{}
	for _, v := range sheet.Values {
		values[v.Value] = true
	}
	assert.True(t, values[read.Entities[0].EntityID])
	assert.True(t, values[read.Entities[0].Roles[0].Service(saml.ServiceSSO)[0].Location])

	right, err := l.Exchange.CompareSheet(ctx, "application", "rota", "Entity ID: "+read.Entities[0].EntityID)
	require.NoError(t, err)
	assert.True(t, right.Equal, "%+v", right.Values)
	wrong, err := l.Exchange.CompareSheet(ctx, "application", "rota", "Entity ID: "+read.Entities[0].EntityID+"/")
	require.NoError(t, err)
	assert.False(t, wrong.Equal)
}

// TestAHandoverLinkIsForOneBrowserForATime opens by a press, once, and shows nobody else anything.
func TestAHandoverLinkIsForOneBrowserForATime(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	made, err := l.Exchange.NewHandover(ctx, testbed.Owner, "application", "rota", api.NewHandover{Hours: 1, Openings: 1})
	require.NoError(t, err)
	token := made.Link[strings.LastIndexByte(made.Link, '/')+1:]
	b := signin.Browser{Address: "192.0.2.1"}
	closed, err := l.Exchange.Handover(ctx, b, token, "")
	require.NoError(t, err)
	assert.False(t, closed.Opened)
	assert.Nil(t, closed.Sheet, "nothing is shown before it was opened")
	cookie, err := l.Exchange.OpenHandover(ctx, b, token, "")
	require.NoError(t, err)
	page, err := l.Exchange.Handover(ctx, b, token, cookie)
	require.NoError(t, err)
	assert.Contains(t, page.Name, "Crew Rota")
	_, err = l.Exchange.OpenHandover(ctx, signin.Browser{Address: "192.0.2.2"}, token, "")
	assert.Error(t, err, "one opening was allowed")
	l.Turn(2 * time.Hour)
	_, err = l.Exchange.Handover(ctx, b, token, cookie)
	assert.Error(t, err, "its time is over")
}
