package codes_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect/winhost/codes"
)

// What a class's method returns has that class's meaning: the same number is another thing elsewhere.
func TestCodesHaveTheMeaningOfTheirClass(t *testing.T) {
	assert.Equal(t, "Change returned 5: it cannot accept the control in its state", codes.Returned("Change", 5))
	assert.Equal(t, "Reboot returned 5: access denied", codes.Restarted(5))
	assert.Equal(t, "Reboot returned 1314: the privilege for it is not held", codes.Restarted(1314))
	assert.Equal(t, "Reboot returned 9: a code without a known meaning", codes.Restarted(9))
	assert.Empty(t, codes.Exited(0))
	assert.Equal(t, "1069: the log-on failed", codes.Exited(1069))
}
