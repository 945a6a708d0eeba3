package diagnosis

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A unit that is switched off and failed was started by something: that its
// account is not known is told, as the findings tell it.
func TestSwitchedOffButFailed(t *testing.T) {
	causes := Explain(Evidence{System: "bookings1", Name: "oldsync.service", State: "failed", Result: "exit-code", StartMode: "disabled", RunsAs: "svc-sync", Identity: "named", Reference: `"svc-sync" means no single known account`})
	verdicts := map[Code]Verdict{}
	for _, c := range causes {
		verdicts[c.Code] = c.Verdict
	}
	assert.Equal(t, NoAccount, causes[0].Code)
	assert.Equal(t, Likely, verdicts[NoAccount])
	assert.Equal(t, Possible, verdicts[SwitchedOff])
}
