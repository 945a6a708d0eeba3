package rights

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
)

// What preparations may be asked for is what there are.
func TestPurposes(t *testing.T) {
	assert.Equal(t, connect.Purposes(), purposes)
}
