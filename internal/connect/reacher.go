package connect

import (
	"context"

	"mossledger.example/moss/internal/core/reach"
)

// Reacher asks ports from where a system is: what a dependent there would find. Nothing is
// sent but the beginning of a protocol.
type Reacher interface {
	Reach(ctx context.Context, target Target, asks []reach.Ask) ([]reach.Result, error)
}
