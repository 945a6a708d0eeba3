package pending_test

import (
	"encoding/xml"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect/winhost/pending"
	"mossledger.example/moss/internal/connect/wsman"
)

func told(point, hint int) *wsman.Node {
	i := &wsman.Node{Local: "Win32_Service", Attributes: []xml.Attr{}}
	i.Set("CheckPoint", fmt.Sprint(point))
	i.Set("WaitHint", fmt.Sprint(hint))
	return i
}

// How long is waited follows what the service tells: progress, and a hint.
func TestPatienceFollowsProgress(t *testing.T) {
	at := func(minutes float64) time.Time {
		return time.Date(2026, 11, 28, 2, 0, 0, 0, time.UTC).Add(time.Duration(minutes * float64(time.Minute)))
	}
	type look struct {
		minute      float64
		point, hint int
		over        bool
	}
	for name, looks := range map[string][]look{
		"tells nothing":          {{0, 0, 0, false}, {0.5, 0, 0, false}, {0.8, 0, 0, true}},
		"gets on":                {{0, 1, 0, false}, {0.7, 2, 0, false}, {1.4, 3, 0, false}, {2.2, 3, 0, true}},
		"hints":                  {{0, 1, 180000, false}, {2.9, 1, 180000, false}, {3.1, 1, 180000, true}},
		"hints beyond all reach": {{0, 1, 2000000000, false}, {9.9, 1, 2000000000, false}, {10.1, 1, 2000000000, true}},
		"goes back":              {{0, 5, 0, false}, {0.8, 4, 0, true}},
	} {
		var wait pending.Patience
		for _, l := range looks {
			assert.Equal(t, l.over, wait.Over(told(l.point, l.hint), at(l.minute)), "%s at minute %v", name, l.minute)
		}
	}
}
