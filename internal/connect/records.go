package connect

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/change"
)

// Recorder reads what a system's own log tells of who signed in, and who changed accounts,
// since a moment. A kind that has no such log, or another one, returns the zero Log.
type Recorder interface {
	Records(ctx context.Context, target Target, since time.Time) (change.Log, error)
}
