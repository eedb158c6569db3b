package ground

import (
	"innergate/api"
	"innergate/store"
)

// PageOf lays the rows of a query that asked for one more than a page holds out as a page: each row as show gives it, and where
// more follow, the key of the last row, behind which the next page begins.
func PageOf[Row, View any](p store.Page, rows []Row, key func(*Row) string, show func(*Row) (*View, error)) (*api.List[View], error) {
	out := &api.List[View]{Items: []View{}}
	if limit := LimitOf(p); len(rows) > limit {
		rows, out.Next = rows[:limit], key(&rows[limit-1])
	}
	for i := range rows {
		v, err := show(&rows[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *v)
	}
	return out, nil
}
