package terminal

import (
	"strings"

	"github.com/urfave/cli/v3"

	"innergate/core/files"
)

// kindWords are the kinds of objects as they are typed.
var kindWords = map[string]string{
	"app":         files.Application,
	"application": files.Application,
	"provider":    files.Provider,
	"group":       files.Group,
	"ruleset":     files.RuleSet,
	"source":      files.Source,
	"template":    files.Template,
	"assignment":  files.Assignment,
	"setting":     files.Setting,
}

// ObjectNamed reads a name such as app/crew-rota.
func ObjectNamed(text string) (kind, slug string, err error) {
	word, slug, ok := strings.Cut(text, "/")
	kind = kindWords[strings.TrimSuffix(word, "s")]
	if kind == "" {
		kind = kindWords[word]
	}
	if !ok || slug == "" || kind == "" {
		return "", "", Usage(
			"%q names no object; write it such as app/crew-rota, provider/saltmere-staff, group/office, ruleset/ferry-roles, "+
				"assignment/cargo-ledger/office or setting/routes",
			text,
		)
	}
	return kind, slug, nil
}

// PartnerArguments are the two words that name a partner: app or provider, and the short name. The side comes back as
// it stands in paths.
func PartnerArguments(c *cli.Command, more ...string) (side, slug string, rest []string, err error) {
	args, err := Arguments(c, append([]string{"SIDE", "SHORTNAME"}, more...)...)
	if err != nil {
		return "", "", nil, err
	}
	switch args[0] {
	case "app":
		side = "applications"
	case "provider":
		side = "providers"
	default:
		return "", "", nil, Usage("%q is no side; app and provider are", args[0])
	}
	return side, args[1], args[2:], nil
}
