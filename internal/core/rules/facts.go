package rules

import (
	"reflect"
	"slices"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"cel.dev/cel-go/interpreter"
)

// Account is what a condition may ask of an account.
type Account struct {
	Name            string    `rule:"name" what:"as its system has it"`
	Type            string    `rule:"type" what:"user, managed, computer, local or system"`
	DN              string    `rule:"dn" what:"distinguished name, in directories"`
	UPN             string    `rule:"upn" what:"user principal name, in directories"`
	SID             string    `rule:"sid" what:"security identifier, in directories"`
	UID             string    `rule:"uid" what:"numeric user id, on hosts"`
	DisplayName     string    `rule:"display_name" what:"of people and well-kept accounts"`
	Description     string    `rule:"description" what:"as its system has it"`
	Owner           string    `rule:"owner" what:"as its system has it"`
	Enabled         string    `rule:"enabled" what:"yes, no or unknown"`
	Locked          string    `rule:"locked" what:"yes, no or unknown"`
	NeverExpires    bool      `rule:"never_expires" what:"its password never expires"`
	MustChange      bool      `rule:"must_change" what:"its password must be changed at the next sign-in"`
	BuiltIn         bool      `rule:"built_in" what:"a computer, or what a system comes with and nothing uses"`
	Custody         bool      `rule:"custody" what:"its password is in custody"`
	Groups          []string  `rule:"groups" what:"effective memberships, nested; as the system gives them"`
	Principals      []string  `rule:"principals" what:"service principal names"`
	PasswordChanged time.Time `rule:"password_changed" what:"timestamp(0) when it is not known"`
	PasswordExpires time.Time `rule:"password_expires" what:"timestamp(0) when it does not, or is not known"`
	AccountExpires  time.Time `rule:"account_expires" what:"timestamp(0) when it does not, or is not known"`
	LastLogOn       time.Time `rule:"last_logon" what:"timestamp(0) when it is not known"`
	FirstSeen       time.Time `rule:"first_seen" what:"by a survey"`
	Labels          []string  `rule:"labels" what:"that people gave it; those of rules are not seen by rules"`
}

// System is what a condition may ask of the system that an account is on.
type System struct {
	Name        string `rule:"name" what:"as it was added"`
	Kind        string `rule:"kind" what:"directory, unix-host, windows-host, postgresql, mariadb, redis"`
	Site        string `rule:"site" what:"as people say"`
	Environment string `rule:"environment" what:"as people say"`
	Owner       string `rule:"owner" what:"as people say"`
}

// Dependent is what a condition may ask of each of the list dependents: what is tied to
// the account and is there.
type Dependent struct {
	Kind       string `cel:"kind" what:"unit, cron, service, task, pool, file, key, ..."`
	Place      string `cel:"place" what:"name of a unit, path of a file with its key"`
	Name       string `cel:"name" what:"of the dependent"`
	System     string `cel:"system" what:"that it is on"`
	RunsAs     string `cel:"runs_as" what:"the reference as it is configured"`
	State      string `cel:"state" what:"active, running, failed, stopped, ..."`
	StartMode  string `cel:"start_mode" what:"enabled, automatic, manual, ..."`
	Executable string `cel:"executable" what:"that it runs"`
	Evidence   string `cel:"evidence" what:"of the tie: configured, held, observed or declared"`
	Strength   string `cel:"strength" what:"of the tie: runs as, matches, beside, differs, ..."`
}

// Question is one of the published list of fields.
type Question struct {
	Name string `json:"name" doc:"As a condition writes it; of dependents: of each of the list"`
	Type string `json:"type" enum:"text,yes-no,moment,list of texts"`
	What string `json:"what"`
}

const (
	prefixAccount      = "account."
	prefixSystem       = "system."
	variableDependents = "dependents"
	variableNow        = "now"
)

var kinds = map[reflect.Type]struct {
	cel  *cel.Type
	name string
}{
	reflect.TypeFor[string]():    {cel.StringType, "text"},
	reflect.TypeFor[bool]():      {cel.BoolType, "yes-no"},
	reflect.TypeFor[time.Time](): {cel.TimestampType, "moment"},
	reflect.TypeFor[[]string]():  {cel.ListType(cel.StringType), "list of texts"},
}

// Fields lists all that a condition may ask.
func Fields() []Question {
	var out []Question
	add := func(prefix, tag string, of reflect.Type) {
		for i := range of.NumField() {
			f := of.Field(i)
			out = append(out, Question{prefix + f.Tag.Get(tag), kinds[f.Type].name, f.Tag.Get("what")})
		}
	}
	add(prefixAccount, "rule", reflect.TypeFor[Account]())
	add(prefixSystem, "rule", reflect.TypeFor[System]())
	add(variableDependents+".", "cel", reflect.TypeFor[Dependent]())
	return append(out, Question{variableNow, "moment", "when the rules are applied"})
}

// environment is the language with the fields of an account.
var environment = sync.OnceValue(func() *cel.Env {
	options := []cel.EnvOption{
		ext.NativeTypes(reflect.TypeFor[Dependent](), ext.ParseStructTags(true)),
		cel.Variable(variableDependents, cel.ListType(cel.ObjectType("rules.Dependent"))),
		cel.Variable(variableNow, cel.TimestampType),
	}
	for prefix, of := range map[string]reflect.Type{prefixAccount: reflect.TypeFor[Account](), prefixSystem: reflect.TypeFor[System]()} {
		for i := range of.NumField() {
			f := of.Field(i)
			options = append(options, cel.Variable(prefix+f.Tag.Get("rule"), kinds[f.Type].cel))
		}
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		panic("rules: " + err.Error()) // of our own types only
	}
	return env
})

// Facts are those of one account, ready to be asked by many conditions.
type Facts struct {
	values  map[string]ref.Val
	longest int // of its lists
}

// ResolveName implements the language's way to variables.
func (f *Facts) ResolveName(name string) (any, bool) {
	v, found := f.values[name]
	return v, found
}

// Parent implements the language's way to variables: there are no others.
func (*Facts) Parent() interpreter.Activation { return nil }

// NewFacts makes them. dependents may be nil when no condition needs them.
func NewFacts(account Account, system System, dependents []Dependent, now time.Time) *Facts {
	adapter := environment().CELTypeAdapter()
	f := &Facts{make(map[string]ref.Val, 40), len(dependents)}
	add := func(prefix string, of reflect.Value) {
		for i := range of.NumField() {
			var value ref.Val
			switch v := of.Field(i).Interface().(type) {
			case string:
				value = types.String(v)
			case bool:
				value = types.Bool(v)
			case time.Time:
				if v.IsZero() {
					v = time.Unix(0, 0)
				}
				value = types.Timestamp{Time: v.UTC()}
			case []string:
				value, f.longest = types.NewStringList(adapter, slices.Clone(v)), max(f.longest, len(v))
			}
			f.values[prefix+of.Type().Field(i).Tag.Get("rule")] = value
		}
	}
	add(prefixAccount, reflect.ValueOf(account))
	add(prefixSystem, reflect.ValueOf(system))
	if dependents == nil {
		dependents = []Dependent{}
	}
	f.values[variableDependents] = adapter.NativeToValue(dependents)
	f.values[variableNow] = types.Timestamp{Time: now.UTC()}
	return f
}
