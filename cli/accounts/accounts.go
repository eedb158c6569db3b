// Package accounts has the commands on people's accounts at applications, and on people whom others push to the gate.
package accounts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

type commands struct{ *terminal.Program }

// Accounts is `innergate accounts`: accounts at applications, kept in step over SCIM.
func Accounts(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "accounts",
		Usage:    "accounts at applications, kept in step over SCIM 2.0",
		Metadata: terminal.Examples("innergate accounts show cargo-ledger", "innergate accounts list cargo-ledger --state approval"),
		Commands: []*cli.Command{p.show(), p.try(), p.would(), p.compare(), p.list(), p.history(), p.approve(), p.act("retry",
			"try accounts again that failed", "Tried again"), p.act("leave", "leave accounts alone from now on", "Left alone"),
			p.act("keep", "keep accounts in step again that were left alone", "Kept again"), p.adopt(),
			p.act("correct", "set right what the application changed", "Set right"),
			p.act("accept", "leave what the application changed to it", "Left to it"), p.agree(), p.secret(), p.pushes()},
	}
}

// words are the states for people.
var words = map[string]string{"step": "in step", "approval": "waiting for approval", "due": "to be sent", "failed": "failed",
	"foreign": "not ours", "ignored": "left alone", "drifted": "changed there"}

func (p *commands) show() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "how keeping an application's accounts stands",
		ArgsUsage: "APPLICATION",
		Metadata:  terminal.Examples("innergate accounts show cargo-ledger"),
		Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			v, err := cl.Accounts(ctx, args[0])
			if err != nil {
				return err
			}
			return p.Show(c, v, func() { p.whole(args[0], v) })
		}),
	}
}

func (p *commands) whole(slug string, v *api.Accounts) {
	on := "off: nothing is sent"
	if v.On {
		on = "on"
	}
	rows := []table.Row{{"sending", on}, {"compared", terminal.Ago(v.ComparedAt)}}
	for _, s := range []string{"step", "approval", "due", "failed", "drifted", "foreign", "ignored"} {
		rows = append(rows, table.Row{words[s], v.Counts[s]})
	}
	if v.Can != nil {
		rows = append(rows, table.Row{"it can do", canDo(v.Can)})
	}
	p.Table(table.Row{"What", ""}, rows, "")
	if v.Code != "" {
		fmt.Fprintf(p.Out, "\n%s: %s %s\n", v.Code, v.Reason, v.Remedy)
	}
	if v.PausedUntil != nil {
		fmt.Fprintf(p.Out, "It is tried again at %s.\n", terminal.LocalTime(*v.PausedUntil))
	}
	if v.Subject != "" {
		fmt.Fprintf(p.Out, "\n%s\n", v.Subject)
	}
	if v.Asking > 0 {
		fmt.Fprintf(p.Out, "\n%d accounts would be taken away at once: %s\nNothing was taken away. `innergate accounts agree %s %d` "+
			"agrees.\n",
			v.Asking, strings.Join(v.Names, ", "), slug, v.Asking)
	}
}

func canDo(a *api.AccountAbilities) string {
	var out []string
	for _, one := range []struct {
		can  bool
		name string
	}{{a.Patch, "PATCH"}, {a.Filter, "filters"}, {a.ETag, "entity tags"}, {a.Sort, "sorting"}, {a.Bulk, "bulk"}, {a.Cursor, "cursors"}} {
		if one.can {
			out = append(out, one.name)
		}
	}
	return terminal.OrDash(strings.Join(out, ", "))
}

func (p *commands) try() *cli.Command {
	return &cli.Command{
		Name:      "try",
		Usage:     "ask an application's SCIM service what it can do; nothing is changed there",
		ArgsUsage: "APPLICATION",
		Flags:     []cli.Flag{&cli.BoolFlag{Name: "next", Usage: "with the next token, in place of the one that counts"}},
		Metadata:  terminal.Examples("innergate accounts try cargo-ledger", "innergate accounts try cargo-ledger --next"),
		Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			v, err := cl.TryAccounts(ctx, args[0], c.Bool("next"))
			if err != nil {
				return err
			}
			if err := p.Show(c, v, func() {
				fmt.Fprintln(p.Out, v.Text)
				if v.Can != nil {
					p.Table(table.Row{"What", ""}, []table.Row{{"accounts there", v.Users}, {"it can do", canDo(v.Can)},
						{"its own attributes", terminal.OrDash(strings.Join(v.Can.Paths, "\n"))}}, "")
				}
				for _, r := range v.Remarks {
					fmt.Fprintln(p.Out, r)
				}
			}); err != nil {
				return err
			}
			if !v.OK {
				return fmt.Errorf("%s: %s", v.Code, v.Remedy)
			}
			return nil
		}),
	}
}

func (p *commands) would() *cli.Command {
	return &cli.Command{
		Name:      "would",
		Usage:     "what somebody's account would be, and whether they have one; nothing is asked or changed there",
		ArgsUsage: "APPLICATION PERSON",
		Metadata:  terminal.Examples("innergate accounts would cargo-ledger mira.voss@saltmere.example"),
		Action: p.With("APPLICATION PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			id, err := terminal.PersonID(ctx, cl, args[1])
			if err != nil {
				return err
			}
			v, err := cl.Preview(ctx, api.Preview{Application: args[0], Person: id, Account: true})
			if err != nil {
				return err
			}
			return p.Show(c, v, func() { p.wouldBe(v) })
		}),
	}
}

func (p *commands) wouldBe(v *api.Previewed) {
	if v.Refused != nil {
		fmt.Fprintf(p.Out, "%s. %s %s\n", v.Refused.Title, v.Refused.Cause, v.Refused.Remedy)
	}
	for _, d := range v.Decisions {
		if d.About == "account" {
			fmt.Fprintf(p.Out, "%s %s: %s.\n", v.Person, d.Result, d.By)
		}
	}
	if v.Out == nil {
		return
	}
	var rows []table.Row
	for _, s := range v.Out.Steps {
		rows = append(rows, table.Row{s.Rule, terminal.OrDash(strings.Join(s.Output, "\n"))})
	}
	p.Table(table.Row{"It would be", "Value"}, rows, "No rule makes anything.")
	for _, one := range v.Out.Problems {
		fmt.Fprintf(p.Out, "%s: %s\n", one.Rule, one.Message)
	}
	fmt.Fprintf(p.Out, "\n%s\n", v.Sent)
}

func (p *commands) compare() *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "compare all accounts with what they should be; nothing is changed there by it",
		ArgsUsage: "APPLICATION",
		Description: "The first comparison comes before anything is sent: it says who is there already, who would be made, changed or " +
			"taken away, and which accounts are of nobody known here.",
		Metadata: terminal.Examples("innergate accounts compare cargo-ledger"),
		Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			got, err := cl.CompareAccounts(ctx, args[0])
			if err != nil {
				return err
			}
			for id := got.ID; got.State == "working"; {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(200 * time.Millisecond):
				}
				v, err := cl.Accounts(ctx, args[0])
				if err != nil {
					return err
				}
				if got = v.Comparison; got == nil || got.ID != id {
					return errors.New("another comparison was begun meanwhile")
				}
			}
			if err := p.Show(c, got, func() { p.compared(args[0], got) }); err != nil {
				return err
			}
			if got.State == "stopped" {
				return fmt.Errorf("the comparison was stopped: %s", got.Note)
			}
			return nil
		}),
	}
}

func (p *commands) compared(slug string, v *api.AccountComparison) {
	p.Table(table.Row{"What", "Accounts"}, []table.Row{{"there", v.There}, {"as they should be", v.Same}, {"would be made", v.Create},
		{"would be changed", v.Change}, {"would be taken away", v.Remove}, {"of nobody known here", v.Foreign},
		{"changed there by the application", v.Drifted}, {"groups there", v.Groups}}, "")
	fmt.Fprintf(p.Out, "`innergate accounts list %s` says which.\n", slug)
}

func (p *commands) list() *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list accounts and groups at an application, by how they stand",
		ArgsUsage: "APPLICATION",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "step, approval, due, failed, foreign, ignored or drifted"},
			&cli.StringFlag{Name: "kind", Usage: "person, group or foreign"},
		}, terminal.PageFlags...),
		Metadata: terminal.Examples("innergate accounts list cargo-ledger --state failed",
			"innergate accounts list cargo-ledger --search voss"),
		Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.AccountList(ctx, args[0], client.Page{Search: c.String("search"), Limit: c.Int("limit"),
				After:   c.String("after"),
				Filters: map[string]string{"state": c.String("state"), "kind": c.String("kind")}})
			if err != nil {
				return err
			}
			return p.Show(c, list, func() {
				var rows []table.Row
				for _, a := range list.Items {
					rows = append(rows, table.Row{a.ID, a.Name, stateOf(a), terminal.OrDash(a.RemoteName), terminal.OrDash(a.There),
						terminal.OrDash(remarkOf(a))})
				}
				p.Table(table.Row{"ID", "Name", "State", "There", "Is", "Why"}, rows, "There is no such account.")
				p.More(list.Next)
			})
		}),
	}
}

// stateOf is how an account stands, with what is to be sent.
func stateOf(a api.Account) string {
	out := words[a.State]
	if a.Kind == "group" {
		out = "group, " + out
	}
	if a.Would != "" && a.State != "step" {
		out += ": " + a.Would
	}
	if a.State == "step" && len(a.Drift) > 0 {
		out = "changed there"
	}
	return out
}

// remarkOf is what is to be said of an account besides.
func remarkOf(a api.Account) string {
	var parts []string
	if a.Code != "" {
		parts = append(parts, a.Code+": "+a.Reason)
	} else if a.Reason != "" {
		parts = append(parts, a.Reason)
	}
	if a.NextTry != nil {
		parts = append(parts, "Tried again at "+terminal.LocalTime(*a.NextTry)+".")
	}
	for _, d := range a.Drift {
		parts = append(parts, fmt.Sprintf("%s is %q there, and should be %q.", d.Path, d.Theirs, d.Ours))
	}
	if len(a.Unkept) > 0 {
		parts = append(parts, "It does not keep "+strings.Join(a.Unkept, ", ")+".")
	}
	if len(a.Accepted) > 0 {
		parts = append(parts, "Left to it: "+strings.Join(a.Accepted, ", ")+".")
	}
	return strings.Join(parts, "\n")
}

func (p *commands) history() *cli.Command {
	return &cli.Command{
		Name:      "history",
		Usage:     "one account: why it is there, what it should be, and each request and answer about it",
		ArgsUsage: "APPLICATION ACCOUNT",
		Flags:     []cli.Flag{&cli.BoolFlag{Name: "messages", Usage: "with the messages themselves"}},
		Metadata:  terminal.Examples("innergate accounts history cargo-ledger 01KAR6… --messages"),
		Action: p.With("APPLICATION ACCOUNT", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			v, err := cl.Account(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return p.Show(c, v, func() { p.detail(v, c.Bool("messages")) })
		}),
	}
}

func (p *commands) detail(v *api.AccountDetail, messages bool) {
	fmt.Fprintf(p.Out, "%s: %s. %s\n", v.Name, stateOf(v.Account), v.Why)
	if r := remarkOf(v.Account); r != "" {
		fmt.Fprintln(p.Out, r)
	}
	if v.Remedy != "" {
		fmt.Fprintln(p.Out, v.Remedy)
	}
	var rows []table.Row
	for _, one := range v.Values {
		rows = append(rows, table.Row{one.Path, one.Value})
	}
	p.Table(table.Row{"It should be", "Value"}, rows, "")
	rows = nil
	for _, t := range v.Talks {
		text := t.Result
		if t.Code != "" {
			text = t.Code
		}
		rows = append(rows, table.Row{terminal.LocalTime(t.At), terminal.OrDash(t.What), text,
			fmt.Sprintf("%.1f ms", float64(t.Micros)/1000)})
	}
	p.Table(table.Row{"When", "To", "Came of it", "Took"}, rows, "Nothing was sent about it yet.")
	p.Silent(v.Silent)
	if !messages {
		return
	}
	for _, t := range v.Talks {
		for _, e := range t.Entries {
			if m := e.Message; m != nil {
				fmt.Fprintf(p.Out, "\n%s → %s  %s  %s\n%s\n", m.From, m.To, m.Name, m.Address, m.Raw)
			}
		}
	}
}
