package access_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
)

func compiled(t testing.TB, p access.Policy) *access.Compiled {
	t.Helper()
	c, err := p.Compile()
	require.NoError(t, err)
	return c
}

// noon is a Monday.
var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestRulesDecide(t *testing.T) {
	facts := access.Facts{
		Person:   "1",
		Type:     "staff",
		Groups:   []string{"crew", "office"},
		Provider: "saltmere-staff",
		Network:  netip.MustParseAddr("10.20.3.4"),
		Mail:     "mira@Saltmere.example",
		At:       noon,
	}
	for _, c := range []struct {
		name   string
		rule   access.Rule
		change func(*access.Facts)
		want   string
		says   string
	}{
		{"group", access.Rule{If: &access.Condition{Groups: []string{"bridge", "crew"}}, Then: "refuse"}, nil, "refuse", "rule 1"},
		{"other group", access.Rule{If: &access.Condition{Groups: []string{"bridge"}}, Then: "refuse"}, nil, "allow", "not in bridge"},
		{"exception", access.Rule{If: &access.Condition{Groups: []string{"crew"}}, Unless: &access.Condition{Types: []string{"staff"}},
			Then: "refuse"}, nil, "allow", "its exception fits"},
		{"type", access.Rule{If: &access.Condition{Types: []string{"guest"}}, Then: "refuse"}, nil, "allow",
			"the person type is not guest"},
		{"provider", access.Rule{If: &access.Condition{Providers: []string{"northquay"}}, Then: "refuse"}, nil, "allow",
			"not through northquay"},
		{"network", access.Rule{If: &access.Condition{Networks: []string{"10.20.0.0/16"}}, Then: "stronger"}, nil, "stronger", "rule 1"},
		{"network in IPv6's clothes", access.Rule{If: &access.Condition{Networks: []string{"10.20.0.0/16"}}, Then: "refuse"},
			func(f *access.Facts) {
				f.Network = netip.MustParseAddr("::ffff:10.20.3.4")
			}, "refuse", "rule 1"},
		{"one address", access.Rule{If: &access.Condition{Networks: []string{"10.20.3.5"}}, Then: "refuse"}, nil, "allow",
			"outside 10.20.3.5"},
		{"mail domain", access.Rule{If: &access.Condition{MailDomains: []string{"SALTMERE.example"}}, Then: "refuse"}, nil, "refuse",
			"rule 1"},
		{"a subdomain is another", access.Rule{If: &access.Condition{MailDomains: []string{"example"}}, Then: "refuse"}, nil, "allow",
			"the mail domain is not example"},
		{"time", access.Rule{If: &access.Condition{From: "08:00", Until: "12:00"}, Then: "refuse"}, nil, "allow",
			"outside 08:00 to 12:00 UTC"},
		{"time in its zone", access.Rule{If: &access.Condition{From: "13:00", Until: "14:00", Zone: "Europe/Berlin"}, Then: "refuse"},
			nil, "refuse", "rule 1"},
		{"over midnight", access.Rule{If: &access.Condition{From: "22:00", Until: "06:00", Days: []string{"mon"}}, Then: "refuse"},
			func(f *access.Facts) {
				f.At = noon.Add(16 * time.Hour)
			}, "refuse", "rule 1"},
		{"over midnight, the day after",
			access.Rule{If: &access.Condition{From: "22:00", Until: "06:00", Days: []string{"tue"}}, Then: "refuse"},
			func(f *access.Facts) {
				f.At = noon.Add(16 * time.Hour)
			}, "allow", "not on tue"},
		{"day", access.Rule{If: &access.Condition{Days: []string{"sat", "sun"}}, Then: "refuse"}, nil, "allow", "not on sat, sun"},
		{"strength", access.Rule{If: &access.Condition{Strength: "two"}, Then: "refuse"}, nil, "allow", "no second factor was used"},
		{"stronger, met", access.Rule{Then: "stronger"}, func(f *access.Facts) { f.TwoFactor = true }, "allow", "a second factor was used"},
		{"all must fit", access.Rule{If: &access.Condition{Groups: []string{"crew"}, Types: []string{"guest"}}, Then: "refuse"}, nil,
			"allow", "the person type"},
	} {
		f := facts
		if c.change != nil {
			c.change(&f)
		}
		d := compiled(t, access.Policy{To: access.Everybody, Rules: []access.Rule{c.rule}}).Decide(f, true)
		assert.Equal(t, c.want, d.Result, c.name)
		assert.Contains(t, d.By+fmt.Sprint(d.Passed), c.says, c.name)
	}
}

func TestWhoIsLetIn(t *testing.T) {
	zero := compiled(t, access.Policy{})
	d := zero.Decide(access.Facts{}, true)
	assert.Equal(t, "refuse", d.Result, "the zero value lets nobody in by accident")
	assert.Equal(t, "access.not-assigned", d.Code)
	d = zero.Decide(
		access.Facts{
			Assigned: []access.Assignment{{By: "crew", Roles: []string{"rota-editor"}}, {Roles: []string{"rota-reader", "rota-editor"}}},
		},
		true,
	)
	assert.Equal(t, "allow", d.Result)
	assert.Equal(t, "assigned through the group crew", d.By)
	assert.Equal(t, []string{"rota-editor", "rota-reader"}, d.Roles)

	required := compiled(t, access.Policy{To: access.Everybody, Requires: []string{"ferry-crew"}})
	assert.Equal(t, "access.group-required", required.Decide(access.Facts{Received: []string{"staff"}}, false).Code)
	assert.Equal(t, "allow", required.Decide(access.Facts{Received: []string{"staff", "ferry-crew"}}, false).Result)

	// The first rule that fits decides; what is not decided follows the default.
	ordered := compiled(t, access.Policy{To: access.Everybody, Otherwise: "refuse", Rules: []access.Rule{
		{
			Name: "no guests at night",
			If:   &access.Condition{Types: []string{"guest"}, From: "20:00", Until: "06:00"},
			Then: "refuse",
		}, {Name: "crew", If: &access.Condition{Groups: []string{"crew"}}, Then: "allow"}}})
	d = ordered.Decide(access.Facts{Type: "guest", At: noon}, true)
	assert.Equal(t, "access.no-rule", d.Code)
	assert.Equal(t, []string{"rule 1 (no guests at night): outside 20:00 to 06:00 UTC", "rule 2 (crew): not in crew"}, d.Passed)
	assert.Equal(
		t,
		"person type guest, 1 groups, mail at saltmere.example, through saltmere-staff, from 10.1.2.3, Mon 12:00 UTC, one factor",
		access.Facts{
			Type:     "guest",
			Groups:   []string{"x"},
			Mail:     "a@Saltmere.example",
			Provider: "saltmere-staff",
			Network:  netip.MustParseAddr("10.1.2.3"),
			At:       noon,
		}.InWords(),
	)
	assert.Equal(t, "rule 2 (crew)", ordered.Decide(access.Facts{Groups: []string{"crew"}, At: noon}, false).By)
}

func TestRulesThatCantBeUsed(t *testing.T) {
	for says, r := range map[string]access.Rule{
		"is no result":             {Then: "maybe"},
		"is no network":            {If: &access.Condition{Networks: []string{"10.20"}}, Then: "allow"},
		"is no day":                {If: &access.Condition{Days: []string{"Monday"}}, Then: "allow"},
		"is no time of day":        {If: &access.Condition{From: "8", Until: "9"}, Then: "allow"},
		"both are needed":          {If: &access.Condition{From: "08:00"}, Then: "allow"},
		"is no time zone":          {If: &access.Condition{From: "08:00", Until: "09:00", Zone: "Ferry/Time"}, Then: "allow"},
		"is no strength":           {If: &access.Condition{Strength: "three"}, Then: "allow"},
		"is no mail domain":        {If: &access.Condition{MailDomains: []string{"a@b"}}, Then: "allow"},
		"an entry of a list is em": {If: &access.Condition{Groups: []string{" "}}, Then: "allow"},
		"never fit":                {Unless: &access.Condition{}, Then: "refuse"},
		"nothing else can stand":   {Use: "x", Then: "allow"},
	} {
		assert.ErrorContains(t, access.CheckRules([]access.Rule{r}), says)
	}
	_, err := access.Policy{Rules: []access.Rule{{Use: "night"}}}.Compile()
	assert.ErrorContains(t, err, "not known here")
	whole, err := access.Resolve(
		[]access.Rule{{Use: "night"}, {Then: "allow"}},
		func(string) ([]access.Rule, error) { return []access.Rule{{Name: "n", Then: "refuse"}}, nil },
	)
	require.NoError(t, err)
	assert.Equal(t, []access.Rule{{Name: "n", Then: "refuse"}, {Then: "allow"}}, whole)
}

// BenchmarkDecision times fifty rules and a person in two hundred groups, of which the last rule's is the last; the
// floor is to go through the person's groups once.
func BenchmarkDecision(b *testing.B) {
	facts := access.Facts{
		Type:     "staff",
		Provider: "saltmere-staff",
		Network:  netip.MustParseAddr("10.20.3.4"),
		Mail:     "mira@saltmere.example",
		At:       noon,
	}
	for i := range 200 {
		facts.Groups = append(facts.Groups, fmt.Sprintf("group-%d", i))
	}
	p := access.Policy{To: access.Everybody, Otherwise: access.Refuse}
	for i := range 50 {
		c := &access.Condition{Groups: []string{fmt.Sprintf("other-%d", i)}}
		switch i % 4 {
		case 1:
			c = &access.Condition{Networks: []string{fmt.Sprintf("10.%d.0.0/16", 100+i)}}
		case 2:
			c = &access.Condition{Types: []string{"guest"}}
		case 3:
			c = &access.Condition{MailDomains: []string{"partner.example"}, From: "08:00", Until: "18:00"}
		}
		p.Rules = append(p.Rules, access.Rule{If: c, Then: access.Refuse})
	}
	p.Rules[49] = access.Rule{If: &access.Condition{Groups: []string{"group-199"}}, Then: access.Allow}
	c := compiled(b, p)
	b.Run("floor", func(b *testing.B) {
		for b.Loop() {
			seen := make(map[string]struct{}, len(facts.Groups))
			for _, g := range facts.Groups {
				seen[g] = struct{}{}
			}
		}
	})
	for _, reasons := range []bool{false, true} {
		b.Run(fmt.Sprintf("recorded=%v", reasons), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if d := c.Decide(facts, reasons); d.Result != access.Allow {
					b.Fatal(d)
				}
			}
		})
	}
}
