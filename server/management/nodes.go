package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
)

// nodeRoutes are the operations on the nodes that keep the records together.
func nodeRoutes() []route {
	const owner = ground.RoleOwner
	return []route{
		{
			Method:   http.MethodGet,
			Path:     "/nodes",
			Summary:  "The nodes that keep the records, and which of them leads",
			Role:     ground.RoleViewer,
			Response: api.Nodes{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Node.Nodes(c.Context()) },
		},
		{
			Method:   http.MethodPost,
			Path:     "/nodes/invitations",
			Summary:  "Make a key with which one machine becomes a node, within an hour",
			Role:     owner,
			Response: api.NodeKey{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Node.Invite(c.Context(), c.who) },
		},
		{
			Method:   http.MethodPost,
			Path:     "/nodes/join",
			Summary:  "Become a node, with such a key",
			Request:  api.JoinNode{},
			Response: api.NodeJoined{},
			handle: func(c *call) (any, error) {
				in, err := body[api.JoinNode](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Node.Join(c.Context(), in, c.s.Address(c))
			},
		},
		{
			Method:  http.MethodPost,
			Path:    "/nodes/relieve",
			Summary: "Have another node take over what the one that answers does for the others",
			Role:    owner,
			Status:  204,
			handle:  func(c *call) (any, error) { return nil, c.s.Gate.Node.Relieve(c.Context(), c.who) },
		},
		{
			Method:  http.MethodPost,
			Path:    "/nodes/leave",
			Summary: "Take the node that answers out of those that keep the records; it is stopped then",
			Role:    owner,
			Status:  204,
			handle:  func(c *call) (any, error) { return nil, c.s.Gate.Node.Leave(c.Context(), c.who) },
		},
		{
			Method:  http.MethodDelete,
			Path:    "/nodes/{id}",
			Summary: "Take a node that will not come back out of those that keep the records",
			Role:    owner,
			Status:  204,
			handle:  func(c *call) (any, error) { return nil, c.s.Gate.Node.Remove(c.Context(), c.who, c.Params("id")) },
		},
	}
}
