package connect

import (
	"context"

	"mossledger.example/moss/internal/core/estate"
)

// Observer reads the TCP connections that a dependent has now. Beside the sessions of a
// data store they show that it has signed in.
type Observer interface {
	Connections(ctx context.Context, target Target, place estate.Place) ([]estate.Socket, error)
}
