package mariadb

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestClientsOfTheProcessList(t *testing.T) {
	for from, want := range map[string]struct {
		host string
		port int
	}{
		"192.0.2.7:51234": {"192.0.2.7", 51234}, "2001:db8::7:51234": {"2001:db8::7", 51234}, "[2001:db8::7]:51234": {"2001:db8::7", 51234}, "::1:40000": {"::1", 40000},
		"::ffff:192.0.2.7:51234": {"192.0.2.7", 51234}, "quay1.larkmoor.example:51234": {"quay1.larkmoor.example", 51234}, "localhost": {"", 0}, "": {"", 0}, "quay1:": {"", 0},
	} {
		host, port := clientOf(from)
		assert.Equal(t, want.host, host, from)
		assert.Equal(t, want.port, port, from)
	}
}
