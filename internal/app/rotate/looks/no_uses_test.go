package looks

import (
	"context"
	"time"

	"mossledger.example/moss/internal/records"
)

// noUses is a store that knows recorded uses only.
type noUses struct{ Store }

func (noUses) SeenUses(context.Context, records.AccountID) ([]records.SeenUse, error) {
	always := time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)
	return []records.SeenUse{{Client: "192.0.2.17", Host: "quay2", Failed: true, Last: always}, {Client: "192.0.2.18", Last: always}, {Client: "192.0.2.19", Failed: true, Last: always.AddDate(-20, 0, 0)}}, nil
}
