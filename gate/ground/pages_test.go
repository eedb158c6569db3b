package ground_test

import (
	"errors"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/gate/ground"
	"innergate/store"
)

// TestPageOf lays out a page of which there is less than one, exactly one, and more.
func TestPageOf(t *testing.T) {
	t.Parallel()
	key := strconv.Itoa
	show := func(n *int) (*string, error) { s := key(*n); return &s, nil }
	for _, c := range []struct {
		rows []int
		want []string
		next string
	}{
		{nil, []string{}, ""},
		{[]int{1}, []string{"1"}, ""},
		{[]int{1, 2}, []string{"1", "2"}, ""},
		{[]int{1, 2, 3}, []string{"1", "2"}, "2"},
	} {
		page, err := ground.PageOf(store.Page{Limit: 2}, c.rows, func(n *int) string { return key(*n) }, show)
		require.NoError(t, err)
		assert.Equal(t, c.want, page.Items)
		assert.Equal(t, c.next, page.Next)
	}
	_, err := ground.PageOf(store.Page{}, []int{1}, func(*int) string { return "" },
		func(*int) (*string, error) { return nil, errors.New("gone") })
	assert.Error(t, err)
}
