package changes

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"strconv"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// NoteSystem keeps what people did to a system. What is told of a removed one outlives
// it, without its number.
func (s *Log) NoteSystem(ctx context.Context, tx *sql.Tx, id records.SystemID, what change.What, fields []change.Field) error {
	v := Put{Subject: records.SubjectSystem, MadeBy: records.ByPeople, What: what, Fields: fields}
	if err := tx.QueryRowContext(ctx, "SELECT name, kind FROM systems WHERE id = ?", id).Scan(&v.Name, &v.Kind); err != nil {
		return fmt.Errorf("system %d: %w", id, database.OrNotFound(err))
	}
	return s.WriteChanges(ctx, tx, id, 0, []Put{v})
}

// OfSystems compares what people say of a system. Certificates are compared and not told.
func OfSystems(before, after records.System) []change.Field {
	return change.Systems(saidOf(before), saidOf(after))
}

func saidOf(v records.System) map[string]string {
	out := map[string]string{"address": v.Address, "steward": v.Steward, "site": v.Site, "environment": v.Environment, "owner": v.Owner}
	if v.Port != 0 {
		out["port"] = strconv.Itoa(v.Port)
	}
	if v.TrustedCA != "" {
		sum := sha256.Sum256([]byte(v.TrustedCA))
		out["trusted certificate"] = "sha256:" + hex.EncodeToString(sum[:8])
	}
	for name, value := range v.Options {
		out["option "+name] = value
	}
	return out
}
