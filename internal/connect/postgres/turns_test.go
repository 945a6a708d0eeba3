package postgres

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/stretchr/testify/require"
)

// When a role's password ends is brought over as it is, also where it never did or never was
// valid: a role must not get longer than the one whose place it takes.
func TestWhenAPasswordEndsIsBroughtOver(t *testing.T) {
	at := pgtype.Timestamptz{Time: time.Date(2027, 3, 1, 4, 5, 6, 7000, time.UTC), Valid: true}
	forever := pgtype.Timestamptz{InfinityModifier: pgtype.Infinity, Valid: true}
	never := pgtype.Timestamptz{InfinityModifier: pgtype.NegativeInfinity, Valid: true}
	for _, c := range []struct {
		was, next pgtype.Timestamptz
		want      []string
	}{
		{at, pgtype.Timestamptz{}, []string{`ALTER ROLE "fares_b" VALID UNTIL '2027-03-01 04:05:06.000007Z'`}},
		{forever, at, []string{`ALTER ROLE "fares_b" VALID UNTIL 'infinity'`}},
		{pgtype.Timestamptz{}, at, []string{`ALTER ROLE "fares_b" VALID UNTIL 'infinity'`}},
		{never, forever, []string{`ALTER ROLE "fares_b" VALID UNTIL '-infinity'`}},
		{at, at, nil},
	} {
		require.Equal(t, c.want, inStep("fares_b", twinRole{until: c.was}, twinRole{until: c.next}))
	}
}
