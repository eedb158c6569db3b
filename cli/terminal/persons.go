package terminal

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/client"
)

// PageFlags are the flags of lists of people and groups.
var PageFlags = []cli.Flag{
	&cli.StringFlag{
		Name:  "search",
		Usage: "how the name, last name, mail address, user name or external ID begins",
	}, &cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 50}, &cli.StringFlag{Name: "after", Usage: "where the page before ended"},
}

var idForm = regexp.MustCompile(`^[0-9A-HJKMNP-TV-Z]{26}$`)

// PersonID finds the one person whom a text means: an ID, or how a name or address begins.
func PersonID(ctx context.Context, cl *client.Client, text string) (string, error) {
	if idForm.MatchString(text) {
		return text, nil
	}
	list, err := cl.People(ctx, client.Page{Search: text, Limit: 5})
	if err != nil {
		return "", err
	}
	switch len(list.Items) {
	case 0:
		return "", &api.Problem{
			Title:  "Not found",
			Status: 404,
			Code:   "not-found",
			Detail: fmt.Sprintf("Nobody's name, mail address or user name begins with %q.", text),
			Remedy: "`innergate person list --search` finds people.",
		}
	case 1:
		return list.Items[0].ID, nil
	}
	var names []string
	for _, x := range list.Items {
		names = append(names, fmt.Sprintf("%s %s (%s)", x.ID, x.Name, OrDash(x.Email)))
	}
	return "", Usage("%q means several people; give one ID of\n  %s", text, strings.Join(names, "\n  "))
}
