package app

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who waits for a time of the clock looks at it again, for timers do not count what a machine
// slept through.
func TestWaitLooking(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		began := time.Now()
		require.NoError(t, WaitLooking(t.Context(), 10*time.Hour))
		assert.Equal(t, clockLook, time.Since(began))
		began = time.Now()
		require.NoError(t, WaitLooking(t.Context(), 2*time.Second))
		assert.Equal(t, 2*time.Second, time.Since(began))
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		require.ErrorIs(t, WaitLooking(ctx, time.Hour), context.Canceled)
	})
}
