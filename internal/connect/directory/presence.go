package directory

import (
	"context"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
)

// StillThere implements connect.Asker. An entry counts as gone when its stable
// id is not found and the entry above its former place can be seen: a log-on
// that sees less than before sees neither.
func (Connector) StillThere(ctx context.Context, t connect.Target, accounts []connect.AccountRef) ([]connect.Presence, error) {
	s, failure := open(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return nil, failure
	}
	defer s.close()
	parents := map[string]connect.Presence{}
	out := make([]connect.Presence, len(accounts))
	for i, a := range accounts {
		_, failure := s.locate(a)
		switch {
		case failure == nil:
			out[i] = connect.PresenceThere
			continue
		case failure.Code != connect.CodeGone:
			return nil, failure
		}
		parent := parentOf(a.DN)
		if parents[parent] == "" {
			parents[parent] = connect.PresenceUnknown
			entry, _, failure := s.base(parent, "objectClass")
			if failure != nil {
				return nil, failure
			}
			if entry != nil && len(entry.GetAttributeValues("objectClass")) > 0 {
				parents[parent] = connect.PresenceGone
			}
		}
		out[i] = parents[parent]
		// Its former name may be hidden rather than free: a refusal says so.
		if out[i] == connect.PresenceGone && s.refuses(a.DN) {
			out[i] = connect.PresenceThere
		}
	}
	return out, nil
}

// refuses: asking for the entry is refused, which a name that nobody has is not.
func (s *session) refuses(dn string) bool {
	_, err := s.conn.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", []string{"1.1"}, nil))
	return ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights)
}

func parentOf(dn string) string {
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case ',':
			return strings.TrimSpace(dn[i+1:])
		}
	}
	return ""
}

var _ connect.Asker = Connector{}
