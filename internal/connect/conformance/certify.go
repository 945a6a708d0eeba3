package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
)

// certify: an authority orders for names only, issues nothing that was not ordered, and takes
// back what is its own.
func (s *suite) certify(t *testing.T) {
	ctx := s.ctx
	_, err := s.Connector.Order(ctx, s.Target, nil)
	s.failure(t, err)
	_, wrong := s.Connector.Issue(ctx, s.Target, connect.Order{URL: "https://127.0.0.1:1/order/none"}, []byte("no request"))
	s.failure(t, wrong)
	gone := s.Connector.Revoke(ctx, s.Target, "no certificate")
	s.failure(t, gone)
	for _, err := range []error{err, wrong, gone} {
		if !s.Connector.Describe().Can(connect.ActCertify) {
			assert.Equal(t, connect.CodeCannot, connect.CodeOf(err))
		} else {
			assert.NotEqual(t, connect.CodeCannot, connect.CodeOf(err), err.Error())
		}
	}
}

// show: a port is told of by the place that a visit gave it, and no other is asked.
func (s *suite) show(t *testing.T) {
	for _, place := range []string{"no port", ""} {
		_, err := s.Connector.Shown(s.ctx, s.Target, place)
		s.failure(t, err)
		want := connect.CodeCannot
		if s.Connector.Describe().Can(connect.ActShow) {
			want = connect.CodeGone
		}
		assert.Equal(t, want, connect.CodeOf(err), err.Error())
	}
}
