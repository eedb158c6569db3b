package client

import (
	"context"
	"net/http"

	"innergate/api"
)

// Nodes lists those that keep the records.
func (c *Client) Nodes(ctx context.Context) (*api.Nodes, error) {
	return do[api.Nodes](ctx, c, http.MethodGet, "/nodes", nil)
}

// InviteNode makes a key with which one machine becomes a node.
func (c *Client) InviteNode(ctx context.Context) (*api.NodeKey, error) {
	return do[api.NodeKey](ctx, c, http.MethodPost, "/nodes/invitations", nil)
}

// JoinNodes becomes a node with such a key; no token is needed.
func (c *Client) JoinNodes(ctx context.Context, in api.JoinNode) (*api.NodeJoined, error) {
	return do[api.NodeJoined](ctx, c, http.MethodPost, "/nodes/join", in)
}

// RelieveNode has another node take over.
func (c *Client) RelieveNode(ctx context.Context) error {
	return c.Do(ctx, http.MethodPost, "/nodes/relieve", nil, nil)
}

// LeaveNodes has the node that answers stop being one.
func (c *Client) LeaveNodes(ctx context.Context) error {
	return c.Do(ctx, http.MethodPost, "/nodes/leave", nil, nil)
}

// RemoveNode takes one out.
func (c *Client) RemoveNode(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, at("nodes", id), nil, nil)
}
