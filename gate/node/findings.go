package node

import (
	"context"
	"fmt"
	"time"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/trace"
)

const (
	// clocksApart is how far clocks of nodes may be apart: what is good for some minutes is judged at each of them.
	clocksApart = 2 * time.Second
	// endsSoon is less than the time before its end at which a node renews its certificate: it should have done so.
	endsSoon = 30 * 24 * time.Hour
)

// Findings is what is wrong with some nodes.
func Findings(list []api.Node, now time.Time) []checkup.Finding {
	out := []checkup.Finding{}
	add := func(severity, code, title, detail, remedy string, n api.Node, facts ...trace.Evidence) {
		out = append(out, checkup.Finding{Code: code, Severity: severity, Title: title, Detail: detail, Remedy: remedy,
			Evidence: append([]trace.Evidence{explain.Fact("node", n.Address)}, facts...)})
	}
	version, answer := "", 0
	for _, n := range list {
		if n.Own {
			version = n.Version
		}
		if n.Answers {
			answer++
		}
	}
	for _, n := range list {
		switch {
		case !n.Answers:
			add(checkup.Broken, "node.silent", "A node does not answer", "It keeps no records while it is down, and its traces can't be "+
				"read.", "Start it; or, if it will not come back, remove it and have another machine join.", n)
			continue
		case n.Role != "voter":
			add(checkup.Attention, "node.behind", "A node does not vote", "It is behind the others, or came back a moment ago. "+
				"Until it votes, it replaces nobody.",
				"Wait some seconds. If it stays so, look at its disk and its log.", n, explain.Fact("role", n.Role))
		}
		if n.Version != version {
			add(checkup.Attention, "node.versions", "Nodes are of different versions", "That is as it should be during an upgrade, and "+
				"at no other time.", "Bring the others to the same version.", n, explain.Fact("version", n.Version),
				explain.Fact("here", version))
		}
		if apart := time.Duration(n.Ahead) * time.Millisecond; apart.Abs() > clocksApart {
			add(checkup.Attention, "node.clocks", "Clocks of nodes are apart", "Messages that are good for minutes are judged by each "+
				"node's own clock.", "Set both clocks by the same time servers.", n, explain.Fact("ahead of ours", apart.String()))
		}
		if n.Ends != nil && n.Ends.Before(now.Add(endsSoon)) {
			add(checkup.Broken, "node.certificate", "A node's certificate ends soon", "Nodes renew it by themselves 90 days before. "+
				"This one could not; when it ends, the node is none any more.", "Look at its log for why.", n,
				explain.Fact("ends", n.Ends.UTC().Format(time.RFC3339)))
		}
	}
	if len(list) < 3 || answer < 3 {
		out = append(out, checkup.Finding{Code: "node.few", Severity: checkup.Attention,
			Title:  fmt.Sprintf("%d of %d nodes run: none may be lost", answer, len(list)),
			Detail: "The records can be written as long as most of the nodes run. With three that run, any one may be lost.",
			Remedy: "Start those that are down, or have more machines join.", Evidence: []trace.Evidence{}})
	}
	return out
}

// Found is what is wrong with the nodes. Where most can't be reached, nothing of it can be written down.
func (g *Room) Found(ctx context.Context) []checkup.Finding {
	list, err := g.Nodes(ctx)
	if err != nil || list.Alone {
		return nil
	}
	return list.Findings
}

// Count tells how many nodes there are, how many answer and vote, and whether this one leads. Where most can't be reached, none
// votes.
func (g *Room) Count(ctx context.Context) (map[string]int64, error) {
	out := map[string]int64{}
	list, err := g.Nodes(ctx)
	if err != nil {
		return out, nil // that is what the figures tell then
	}
	out["members"], out["findings"] = int64(len(list.Nodes)), int64(len(list.Findings))
	for _, n := range list.Nodes {
		for name, holds := range map[string]bool{
			"answering": n.Answers, "voting": n.Role == "voter" && n.Answers, "leading": n.Leads && n.Own,
		} {
			if holds {
				out[name]++
			}
		}
	}
	return out, nil
}
