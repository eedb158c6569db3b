package config

import (
	"fmt"
	"strings"
)

// What becomes of the strength of sign-in that an application asks for.
const (
	ContextsDemand = "demand"
	ContextsPrefer = "prefer"
	ContextsIgnore = "ignore"
)

// ContextUses are these, the usual one first.
var ContextUses = []string{ContextsDemand, ContextsPrefer, ContextsIgnore}

// checkContexts says what is wrong with a provider's table of contexts.
func (p *Provider) checkContexts(v *validator) {
	if len(p.Contexts) > 50 {
		v.add("contexts", "50 lines are the most")
		return
	}
	for i, m := range p.Contexts {
		at := fmt.Sprintf("contexts[%d]", i)
		if strings.TrimSpace(m.Means) == "" || len(m.Means) > 500 || strings.ContainsAny(m.Means, " \t\n") {
			v.add(at+".means", "name what it stands for: a context class or an acr value, without white space, of up to 500 characters")
		}
		if len(m.Says) > 500 || len(m.AMR) > 10 {
			v.add(at+".says", "a context has up to 500 characters, and up to ten values of amr go with it")
		}
		if len(m.AMR) > 0 && p.Kind != KindOIDC {
			v.add(at+".amr", "only OpenID Connect providers say amr")
		}
	}
}
