package store

import (
	"context"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// alone are values of T with one field set each, by the field's name: also the
// fields of what it points at. base has what every value must have.
func alone[T any](t *testing.T, base T, key ...string) map[string]T {
	t.Helper()
	out := map[string]T{}
	var set func(name string, field func(*T) reflect.Value)
	set = func(name string, field func(*T) reflect.Value) {
		v := base
		f := field(&v)
		switch {
		case f.Type() == reflect.TypeFor[time.Time]():
			f.Set(reflect.ValueOf(time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)))
		case f.Kind() == reflect.String:
			f.SetString("changed")
		case f.Kind() == reflect.Bool:
			f.SetBool(!f.Bool())
		case f.CanInt():
			f.SetInt(7)
		case f.Kind() == reflect.Slice && f.Type().Elem().Kind() == reflect.String:
			f.Set(reflect.MakeSlice(f.Type(), 1, 1))
			f.Index(0).SetString("changed")
		case f.Kind() == reflect.Pointer && f.Type().Elem().Kind() == reflect.Struct:
			for i := range f.Type().Elem().NumField() {
				set(name+"."+f.Type().Elem().Field(i).Name, func(v *T) reflect.Value {
					p := field(v)
					own := reflect.New(p.Type().Elem()) // not that of the others
					if !p.IsNil() {
						own.Elem().Set(p.Elem())
					}
					p.Set(own)
					return p.Elem().Field(i)
				})
			}
			return
		default:
			t.Fatalf("%s is of %v: say how such a field is set", name, f.Type())
		}
		out[name] = v
	}
	of := reflect.TypeFor[T]()
	for i := range of.NumField() {
		name := of.Field(i).Name
		if !of.Field(i).IsExported() || slices.Contains(key, name) {
			continue
		}
		set(name, func(v *T) reflect.Value { return reflect.ValueOf(v).Elem().Field(i) })
	}
	return out
}

// A change of any one field of an account or a dependent is noticed, written
// and read back: a field that a digest or a statement forgets would stay as it
// was for ever.
func TestNoFieldIsForgotten(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	system, err := s.AddSystem(ctx, records.System{Name: "quay1", Kind: "unix-host"}, entryOf("system.add"))
	require.NoError(t, err)

	account := estate.Account{StableID: "1", Name: "svc-berth", Type: "user", Enabled: estate.Yes, Locked: estate.No}
	fields := alone(t, account, "StableID")
	require.Greater(t, len(fields), 20)
	for name, changed := range fields {
		for _, step := range []estate.Account{account, changed, account} { // there and back
			require.NoError(t, s.PutAccounts(ctx, system, []estate.Account{step}, NewSeen(), &records.Tally{}))
			page, err := s.Accounts(ctx, records.Query{})
			require.NoError(t, err)
			require.Len(t, page.Items, 1)
			assert.Equal(t, step, page.Items[0].Account, "an account's %s", name)
		}
	}

	dependent := estate.Dependent{Kind: estate.DependentFile, Place: "/etc/berth.env#PASSWORD", Name: "berth.env", Copy: &estate.Copy{Format: "env"}, Key: &estate.Key{}}
	places := alone(t, dependent, "Kind", "Place")
	require.Greater(t, len(places), 30)
	for name, changed := range places {
		for _, step := range []estate.Dependent{dependent, changed, dependent} {
			require.NoError(t, s.PutDependents(ctx, system, []estate.Dependent{step}, NewSeen(), &records.Tally{}))
			page, err := s.Dependents(ctx, 0, records.Query{})
			require.NoError(t, err)
			require.Len(t, page.Items, 1)
			assert.Equal(t, step, page.Items[0].Dependent, "a dependent's %s", name)
		}
	}
}
