package database

import (
	"database/sql/driver"

	"modernc.org/sqlite"

	"mossledger.example/moss/internal/core/naming"
)

// Migrations write the folded forms of names again when their rule changes.
func init() {
	of := func(fold func(string) string) func(*sqlite.FunctionContext, []driver.Value) (driver.Value, error) {
		return func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
			name, _ := args[0].(string)
			return fold(name), nil
		}
	}
	sqlite.MustRegisterDeterministicScalarFunction("moss_fold", 1, of(naming.Fold))
	sqlite.MustRegisterDeterministicScalarFunction("moss_dn", 1, of(NormalDN))
}

// NormalDN is the normal form of a distinguished name; "" when it is none.
func NormalDN(dn string) string {
	if dn == "" {
		return ""
	}
	normal, err := naming.NormalDN(dn)
	if err != nil {
		return ""
	}
	return normal
}
