package configuration

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/saml"
)

var listFlags = []cli.Flag{
	&cli.StringFlag{
		Name:  "search",
		Usage: "part of a name, short name or entity ID",
	}, &cli.StringFlag{Name: "reach", Usage: "draft, circle, everyone or closed"},
	&cli.StringFlag{Name: "kind", Usage: "what it speaks: saml, oidc, oauth2, guarded, link or directory"},
	&cli.StringFlag{
		Name:  "sort",
		Usage: "name, created, reach or kind; with a leading - the other way round",
	}, &cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 50}, &cli.StringFlag{Name: "after", Usage: "where the page before ended"},
}

func listPage(c *cli.Command) client.Page {
	return client.Page{
		Search:  c.String("search"),
		Sort:    c.String("sort"),
		Limit:   c.Int("limit"),
		After:   c.String("after"),
		Filters: map[string]string{"reach": c.String("reach"), "kind": c.String("kind")},
	}
}

// Applications is `innergate app`: applications.
func Applications(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "app",
		Usage:    "applications",
		Metadata: terminal.Examples("innergate app list", "innergate app add --metadata rota.xml --provider saltmere-staff"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list applications",
				Flags:    listFlags,
				Metadata: terminal.Examples("innergate app list --search rota", "innergate app list --reach draft -o json"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Applications(ctx, listPage(c))
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, a := range list.Items {
							rows = append(rows, table.Row{
								a.Slug,
								a.Name,
								a.Reach,
								strings.Join(a.Providers, ", "),
								terminal.Ago(a.LastSignIn),
							})
						}
						p.Table(
							table.Row{"Short name", "Name", "Reach", "Providers", "Last sign-in"},
							rows,
							"No application fits. `innergate app add` adds one.",
						)
						p.More(list.Next)
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "show one with its passage and findings",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate app show crew-rota"),
				Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					a, err := cl.Application(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, a, func() { p.application(a) })
				}),
			},
			{Name: "add", Usage: "add an application, as a draft", ArgsUsage: "[SOURCE]", Description: sourceHelp, Flags: []cli.Flag{
				&cli.StringFlag{Name: "metadata", Usage: "the SOURCE, as a flag"}, &cli.StringFlag{Name: "entity",
					Usage: "the entity ID to choose, where the metadata holds several; or the one that was cut off"},
				&cli.StringFlag{Name: "certificate", Usage: "a certificate file that came beside the metadata"},
				&cli.StringFlag{
					Name:  "name",
					Usage: "its name (default: as in the metadata)",
				}, &cli.StringFlag{Name: "short-name", Usage: "its short name, for addresses (default: made from the name)"},
				&cli.StringFlag{Name: "description", Usage: "what it is, for a colleague in two years"},
				&cli.StringFlag{
					Name:  "kind",
					Usage: "what it speaks, where only its name is known: saml or oidc",
					Value: config.KindSAML,
				}, &cli.StringFlag{Name: "start-url", Usage: "the application's own start address"},
				&cli.StringSliceFlag{Name: "provider", Usage: "short name of a provider that people sign in with; may be repeated"},
				&cli.StringFlag{Name: "access", Usage: "who may use it: assigned (people and groups; the usual) or everybody"},
			}, Metadata: terminal.Examples("innergate app add rota.xml --provider saltmere-staff",
				"innergate app add --name \"Crew Rota\"", "innergate app add client.json --provider saltmere-staff"),
				Action: p.addApplication},
			{
				Name:      "take",
				Usage:     "take the other side's metadata for an application that is there",
				ArgsUsage: "SHORTNAME SOURCE",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "entity", Usage: "the entity ID to choose, or the one that was cut off"},
					&cli.StringFlag{Name: "certificate", Usage: "a certificate file that came beside the metadata"},
					&cli.BoolFlag{Name: "preview", Usage: "show what would change, and change nothing"},
				},
				Metadata: terminal.Examples(
					"innergate app take crew-rota https://rota.saltmere.example/metadata",
					"innergate app take crew-rota rota.xml --preview",
				),
				Action: func(ctx context.Context, c *cli.Command) error { return p.take(ctx, c, "application") },
			},
			p.reach("applications", "app"),
			p.reachUndo("applications", "app"), p.reachHistory("applications", "app"), p.remove("applications", "app"),
		},
	}
}

func (p *commands) application(a *api.Application) {
	fmt.Fprintf(p.Out, "%s (%s)\n%s\n\n", a.Name, a.Slug, terminal.OrDash(a.Description))
	p.Table(table.Row{"", ""}, []table.Row{
		{
			"kind",
			string(a.Kind),
		}, {"reach", string(a.Reach)}, {identifierName(a.Kind), terminal.OrDash(a.Identifier())}, addresses(a),
		{"start address", startOf(&a.Application)}, {"start at the gate", a.StartOurs},
		{"providers", terminal.OrDash(strings.Join(a.Providers, ", "))},
		{"access", strings.Join(a.Access.InWords(), "\n")}, {"last sign-in", terminal.Ago(a.LastSignIn)},
	}, "")
	p.passage(a.Stations, a.Findings)
}

// startOf is an application's start address, marked where nobody has looked at it.
func startOf(a *config.Application) string {
	if a.StartGuessed() {
		return a.StartURL + " (a guess; look whether people begin there)"
	}
	return terminal.OrDash(a.StartURL)
}

func identifierName(kind string) string {
	return map[string]string{config.KindOIDC: "client ID"}[kind] + map[string]string{config.KindSAML: "entity ID"}[kind]
}

// addresses are where an application's answers go.
func addresses(a *api.Application) table.Row {
	if a.OIDC != nil {
		return table.Row{"redirect URIs", terminal.OrDash(strings.Join(a.OIDC.RedirectURIs, "\n"))}
	}
	if a.Guarded != nil {
		return table.Row{"public and inner address", terminal.OrDash(a.Guarded.PublicURL + "\n" + strings.Join(a.Guarded.Upstreams, "\n"))}
	}
	if a.SAML == nil {
		return table.Row{"address", terminal.OrDash(a.StartURL)}
	}
	return table.Row{"ACS", endpointLines(a.SAML.ACS)}
}

// asked are where people are sent to sign in.
func asked(x *api.Provider) table.Row {
	if x.OIDC != nil {
		return table.Row{
			"endpoints",
			terminal.OrDash(strings.TrimSpace(x.OIDC.AuthorizationEndpoint + "\n" + x.OIDC.TokenEndpoint + "\n" + x.OIDC.UserInfoEndpoint)),
		}
	}
	if x.Directory != nil {
		return table.Row{"second factor", x.Directory.SecondFactor + ", passkeys " + x.Directory.PasskeyUse()}
	}
	if x.LDAP != nil {
		return table.Row{"servers", strings.Join(x.LDAP.Servers, "\n")}
	}
	if x.Kerberos != nil {
		return table.Row{"realms", strings.Join(x.Kerberos.Realms, "\n")}
	}
	return table.Row{"SSO", endpointLines(x.SAML.SSO)}
}

func endpointLines(list []saml.Endpoint) string {
	var out []string
	for _, e := range list {
		out = append(out, e.Location+" ("+saml.BindingName(e.Binding)+")")
	}
	return terminal.OrDash(strings.Join(out, "\n"))
}

var marks = map[string]string{"sound": "✓", "attention": "!", "broken": "✕", "empty": "·", "remark": "i"}

// passage prints the stations in the order in which a sign-in passes them, and what was found.
func (p *commands) passage(stations []api.Station, findings []api.Finding) {
	var rows []table.Row
	for _, s := range stations {
		rows = append(rows, table.Row{marks[s.State] + " " + s.State, s.Title, strings.Join(s.Lines, "; ")})
	}
	fmt.Fprintln(p.Out)
	p.Table(table.Row{"State", "Station", "Set to"}, rows, "")
	for _, f := range findings {
		fmt.Fprintf(p.Out, "\n%s %s (%s)\n  %s\n", marks[f.Severity], f.Title, f.Code, f.Detail)
		if f.Remedy != "" {
			fmt.Fprintf(p.Out, "  %s\n", f.Remedy)
		}
	}
}

func (p *commands) addApplication(ctx context.Context, c *cli.Command) error {
	source, err := sourceGiven(c)
	if err != nil {
		return err
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	a := config.Application{Kind: c.String("kind")}
	if a.Kind == config.KindOIDC {
		a.Mapping = claims.OutgoingOIDC()
	}
	var in api.TakeIn
	if source != "" {
		if in, err = p.TakeIn(source, c); err != nil {
			return err
		}
		u, err := cl.Understand(ctx, "application", "", in)
		if err != nil {
			return err
		}
		p.problems(u)
		if u.App == nil {
			return notUnderstood(u)
		}
		a = *u.App
		for field, value := range u.Proposed {
			fmt.Fprintf(p.Err, "a guess  %s: %s\n", field, value)
		}
	}
	terminal.Override(&a.Name, c.String("name"))
	if c.String("name") != "" {
		a.Slug = config.Slug(a.Name)
	}
	terminal.Override(&a.Slug, c.String("short-name"))
	terminal.Override(&a.Description, c.String("description"))
	terminal.Override(&a.StartURL, c.String("start-url"))
	terminal.Override(&a.Access.To, c.String("access"))
	a.Providers = append(a.Providers, c.StringSlice("provider")...)
	made, err := cl.AddApplication(ctx, a)
	if err != nil {
		return err
	}
	if in != (api.TakeIn{}) {
		if made, err = cl.TakeApplication(ctx, made.Slug, in); err != nil {
			return err
		}
	}
	return p.Show(c, made, func() {
		p.application(made)
		fmt.Fprintf(
			p.Out,
			"\nIt is a draft. Next: hand over our values with `innergate exchange app %[1]s`, try it with `innergate rehearse %[1]s`, "+
				"open it with `innergate app reach %[1]s everyone`.\n",
			made.Slug,
		)
	})
}

func (p *commands) problems(u *api.Understood) {
	for _, x := range u.Problems {
		fmt.Fprintf(p.Err, "%s  %s\n", x.Code, x.Message)
	}
	if u.Remark != "" {
		fmt.Fprintln(p.Err, u.Remark)
	}
}

func notUnderstood(u *api.Understood) error {
	if len(u.Entities) > 1 {
		var ids []string
		for _, e := range u.Entities {
			if e.Usable {
				ids = append(ids, "  "+e.EntityID)
			}
		}
		return fmt.Errorf("the document holds several entities; choose one with --entity:\n%s", strings.Join(ids, "\n"))
	}
	return fmt.Errorf("the document can't be used; nothing was changed")
}

func (p *commands) take(ctx context.Context, c *cli.Command, kind string) error {
	args, err := terminal.Arguments(c, "SHORTNAME", "SOURCE")
	if err != nil {
		return err
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	in, err := p.TakeIn(args[1], c)
	if err != nil {
		return err
	}
	u, err := cl.Understand(ctx, kind, args[0], in)
	if err != nil {
		return err
	}
	p.problems(u)
	if u.App == nil && u.Provider == nil {
		return notUnderstood(u)
	}
	if !c.Bool("preview") {
		if kind == "application" {
			_, err = cl.TakeApplication(ctx, args[0], in)
		} else {
			_, err = cl.TakeProvider(ctx, args[0], in)
		}
		if err != nil {
			return err
		}
	}
	return p.Show(c, u.Changes, func() {
		var rows []table.Row
		for _, x := range u.Changes {
			rows = append(rows, table.Row{x.Field, terminal.OrDash(x.Before), terminal.OrDash(x.After)})
		}
		p.Table(table.Row{"Field", "Before", "After"}, rows, "Nothing changes: all this is held already.")
	})
}

func (p *commands) remove(kind, word string) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "delete it; its traces and journal lines stay",
		ArgsUsage: "SHORTNAME",
		Metadata:  terminal.Examples("innergate " + word + " remove crew-rota"),
		Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
			if err := cl.Delete(ctx, kind, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(p.Out, "%s is deleted.\n", args[0])
			return nil
		}),
	}
}

// Providers is `innergate provider`: providers.
func Providers(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "provider",
		Usage:    "providers",
		Metadata: terminal.Examples("innergate provider list", "innergate provider add --metadata https://id.saltmere.example/metadata"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list providers",
				Flags:    listFlags,
				Metadata: terminal.Examples("innergate provider list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Providers(ctx, listPage(c))
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, x := range list.Items {
							rows = append(rows, table.Row{x.Slug, x.Name, x.Reach, x.Authority(), terminal.Ago(x.LastSignIn)})
						}
						p.Table(
							table.Row{"Short name", "Name", "Reach", "Entity ID or issuer", "Last sign-in"},
							rows,
							"No provider fits. `innergate provider add` adds one.",
						)
						p.More(list.Next)
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "show one with its stations and findings",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate provider show saltmere-staff"),
				Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					x, err := cl.Provider(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, x, func() { p.provider(x) })
				}),
			},
			{Name: "add", Usage: "add a provider, as a draft", ArgsUsage: "[SOURCE]", Description: sourceHelp +
				" The secret that an OpenID provider\ngave us is asked for in a terminal, or read from standard input.", Flags: []cli.Flag{
				&cli.StringFlag{Name: "metadata", Usage: "the SOURCE, as a flag"},
				&cli.StringFlag{Name: "client-id", Usage: "our client ID at an OpenID or OAuth 2.0 provider"},
				&cli.BoolFlag{Name: "with-secret", Usage: "take our client secret there as well"}, &cli.StringFlag{Name: "entity",
					Usage: "the entity ID to choose, where the metadata holds several; or the one that was cut off"},
				&cli.StringFlag{Name: "certificate", Usage: "a certificate file that came beside the metadata"},
				&cli.StringFlag{
					Name:  "name",
					Usage: "its name (default: as in the metadata)",
				}, &cli.StringFlag{Name: "short-name", Usage: "its short name, for addresses"},
				&cli.StringFlag{Name: "description", Usage: "what it is"},
				&cli.StringFlag{
					Name:  "kind",
					Usage: "what it speaks, where only its name is known: saml, oidc, oauth2 or directory",
					Value: config.KindSAML,
				}, &cli.StringFlag{Name: "admission", Usage: "what happens to strangers: refuse, create, ask or pass", Value: "refuse"},
			}, Metadata: terminal.Examples("innergate provider add staff.xml --admission create",
				"innergate provider add https://id.northquay.example --client-id saltmere-gate --with-secret"), Action: p.addProvider},
			{
				Name:      "take",
				Usage:     "take the other side's metadata for a provider that is there",
				ArgsUsage: "SHORTNAME SOURCE",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "entity", Usage: "the entity ID to choose, or the one that was cut off"},
					&cli.StringFlag{Name: "certificate", Usage: "a certificate file that came beside the metadata"},
					&cli.BoolFlag{Name: "preview", Usage: "show what would change, and change nothing"},
				},
				Metadata: terminal.Examples(
					"innergate provider take saltmere-staff staff.xml --preview",
				),
				Action: func(ctx context.Context, c *cli.Command) error { return p.take(ctx, c, "provider") },
			},
			p.reach("providers", "provider"),
			p.reachUndo("providers", "provider"), p.reachHistory("providers", "provider"), p.remove("providers", "provider"),
		},
	}
}

func (p *commands) provider(x *api.Provider) {
	var serves []string
	for _, r := range x.Serves {
		serves = append(serves, r.Name)
	}
	fmt.Fprintf(p.Out, "%s (%s)\n%s\n\n", x.Name, x.Slug, terminal.OrDash(x.Description))
	p.Table(table.Row{"", ""}, []table.Row{
		{
			"kind",
			string(x.Kind),
		}, {"reach", string(x.Reach)}, {map[string]string{config.KindSAML: "entity ID", config.KindOIDC: "issuer",
			config.KindOAuth2: "known by"}[x.Kind], terminal.OrDash(x.Authority())}, asked(x), {"admission", x.Admission},
		{"serves", terminal.OrDash(strings.Join(serves, ", "))}, {"last sign-in", terminal.Ago(x.LastSignIn)},
	}, "")
	p.passage(x.Stations, x.Findings)
}

func (p *commands) addProvider(ctx context.Context, c *cli.Command) error {
	source, err := sourceGiven(c)
	if err != nil {
		return err
	}
	if source == "-" && c.Bool("with-secret") && !p.Interactive() {
		return terminal.Usage("only one of SOURCE and the secret can be standard input")
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	x := config.Provider{Kind: c.String("kind")}
	if x.OAuth() {
		x.Mapping = claims.IncomingOIDC()
	}
	var in api.TakeIn
	if source != "" {
		if in, err = p.TakeIn(source, c); err != nil {
			return err
		}
		u, err := cl.Understand(ctx, "provider", "", in)
		if err != nil {
			return err
		}
		p.problems(u)
		if u.Provider == nil {
			return notUnderstood(u)
		}
		x = *u.Provider
	}
	terminal.Override(&x.Name, c.String("name"))
	if c.String("name") != "" {
		x.Slug = config.Slug(x.Name)
	}
	terminal.Override(&x.Slug, c.String("short-name"))
	terminal.Override(&x.Description, c.String("description"))
	x.Admission = c.String("admission")
	made, err := cl.AddProvider(ctx, x)
	if err != nil {
		return err
	}
	if in != (api.TakeIn{}) {
		if made, err = cl.TakeProvider(ctx, made.Slug, in); err != nil {
			return err
		}
	}
	if made, err = p.ourClient(ctx, c, cl, made); err != nil {
		return err
	}
	return p.Show(c, made, func() {
		p.provider(made)
		fmt.Fprintf(p.Out, "\nIt is a draft. Next: %s\n", nextOf(made))
	})
}

// ourClient enters what a provider gave us as its client: the ID, and the secret, which is never an argument.
func (p *commands) ourClient(ctx context.Context, c *cli.Command, cl *client.Client, made *api.Provider) (*api.Provider, error) {
	id := c.String("client-id")
	if (id != "" || c.Bool("with-secret")) && made.OIDC == nil {
		return nil, terminal.Usage("%s speaks SAML: there is no client ID and no secret", made.Name)
	}
	if id != "" {
		changed := made.Provider
		changed.OIDC.ClientID = id
		var err error
		if made, err = cl.PutProvider(ctx, changed, made.Revision); err != nil {
			return nil, err
		}
	}
	if !c.Bool("with-secret") {
		return made, nil
	}
	secret, err := p.Secret("Client secret: ")
	if err != nil {
		return nil, err
	}
	if _, err := cl.KeepSecret(ctx, made.Slug, api.TheirSecret{Value: secret}); err != nil {
		return nil, err
	}
	return cl.Provider(ctx, made.Slug)
}

// nextOf is what is to be done for a provider that was added.
func nextOf(x *api.Provider) string {
	switch {
	case x.OIDC != nil && x.OIDC.ClientID == "":
		return fmt.Sprintf("register us there with the values of `innergate exchange provider %[1]s`, and enter the client ID that it "+
			"gives on its page, or in a configuration file.", x.Slug)
	case x.OIDC != nil:
		return fmt.Sprintf("try our secret with `innergate secret try %[1]s`, choose it for an application, rehearse that, and open it "+
			"with `innergate provider reach %[1]s everyone`.", x.Slug)
	}
	return fmt.Sprintf("hand over our values with `innergate exchange provider %[1]s`, choose it for an application, rehearse that, and "+
		"open it with `innergate provider reach %[1]s everyone`.", x.Slug)
}

const sourceHelp = "SOURCE is metadata, a discovery document or client metadata: a file, an address or issuer, or - for standard input. " +
	"Without it, --name is needed."

// sourceGiven is where the other side's document lies: the argument, or the flag of older scripts.
func sourceGiven(c *cli.Command) (string, error) {
	source := c.String("metadata")
	if c.Args().Len() > 1 || c.Args().Len() == 1 && source != "" {
		return "", terminal.Usage("one SOURCE is enough. See `%s --help`", c.FullName())
	}
	if c.Args().Len() == 1 {
		source = c.Args().First()
	}
	if source == "" && c.String("name") == "" {
		return "", terminal.Usage("a SOURCE or --name is needed. See `%s --help`", c.FullName())
	}
	return source, nil
}
