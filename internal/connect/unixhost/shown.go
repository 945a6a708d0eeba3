package unixhost

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/shown"
	"mossledger.example/moss/internal/core/estate"
)

// Shown implements connect.Shower.
func (Connector) Shown(ctx context.Context, target connect.Target, place string) (estate.Key, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return estate.Key{}, failure
	}
	defer s.Close()
	key, failure := shown.One(ctx, s.Client, target, place)
	return key, connect.AsError(failure)
}
