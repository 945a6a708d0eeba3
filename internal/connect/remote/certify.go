package remote

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// Order implements connect.Certifier.
func (c *Client) Order(ctx context.Context, target connect.Target, names []string) (out connect.Order, err error) {
	return out, unclear(target, connect.StageChange, c.call(ctx, "Order", nil, []any{target, names}, &out))
}

// Issue implements connect.Certifier.
func (c *Client) Issue(ctx context.Context, target connect.Target, order connect.Order, request []byte) (chain string, err error) {
	return chain, unclear(target, connect.StageChange, c.call(ctx, "Issue", nil, []any{target, order, request}, &chain))
}

// Revoke implements connect.Certifier.
func (c *Client) Revoke(ctx context.Context, target connect.Target, chain string) error {
	return unclear(target, connect.StageChange, c.call(ctx, "Revoke", nil, []any{target, chain}))
}

// Shown implements connect.Shower.
func (c *Client) Shown(ctx context.Context, target connect.Target, place string) (out estate.Key, err error) {
	return out, unclear(target, connect.StageProve, c.call(ctx, "Shown", nil, []any{target, place}, &out))
}
