package remote

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/managed"
)

// Managing implements connect.Manager.
func (c *Client) Managing(ctx context.Context, target connect.Target, ask managed.Ask) (out managed.Seen, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "Managing", nil, []any{target, ask}, &out))
}

// ManagedStanding implements connect.Manager.
func (c *Client) ManagedStanding(ctx context.Context, target connect.Target, change managed.AccountChange) (out connect.ManagedStanding, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "ManagedStanding", nil, []any{target, change}, &out))
}

// Manage implements connect.Manager.
func (c *Client) Manage(ctx context.Context, target connect.Target, change managed.AccountChange, back bool) error {
	return unclear(target, connect.StageChange, c.call(ctx, "Manage", nil, []any{target, change, back}))
}
