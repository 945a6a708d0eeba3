package connect

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/roster"
)

// Act is something that systems of a kind may be able to do.
type Act string

// Acts.
const (
	ActVisit   Act = "visit"   // read it
	ActAsk     Act = "ask"     // ask for single accounts
	ActVerify  Act = "verify"  // sign in as an account
	ActAccept  Act = "accept"  // decide which values of a credential are accepted
	ActOverlap Act = "overlap" // accept two values at once
	ActTurns   Act = "turns"   // have two accounts take turns
	ActRules   Act = "rules"   // tell what a new password must be
	ActEntries Act = "entries" // files of entries that let the holders of keys in
	ActHold    Act = "hold"    // files that hold copies
	ActLogOns  Act = "log-ons" // keep log-ons for dependents
	ActRestart Act = "restart" // restart dependents and tell their state
	// ActRestartHost is to restart a host as a whole. The invocation of its state is UpSince with
	// the time (RFC 3339).
	ActRestartHost Act = "restart-host"

	ActReload   Act = "reload"   // have dependents read their files again while they run
	ActCommand  Act = "command"  // run a check command
	ActRehearse Act = "rehearse" // tell what can be told without changing anything
	ActDiagnose Act = "diagnose" // say why a dependent is down
	ActList     Act = "list"     // list the systems that it knows of
	ActObserve  Act = "observe"  // tell the connections that a dependent has
	ActRecords  Act = "records"  // tell what their own log has of sign-ins and changed accounts
	ActReach    Act = "reach"    // ask ports from where it is
	ActAmend    Act = "amend"    // give and take rights
	ActEnd      Act = "end"      // decide when what is accepted ends
	ActTry      Act = "try"      // do a step of a job as an account
	ActRights   Act = "rights"   // tell who may do what on it
	ActCertify  Act = "certify"  // issue certificates
	ActShow     Act = "show"     // tell what its ports show
	ActManaged  Act = "managed"  // tell about accounts whose passwords it makes by itself
	ActSessions Act = "sessions" // serve calls that follow each other with one sign-in
)

// UpSince begins the invocation of a host as a whole.
const UpSince = "up since "

// OptionType says what a setting of an option looks like.
type OptionType string

// Types of options.
const (
	OptionText      OptionType = "text"
	OptionChoice    OptionType = "choice"    // one of Choices
	OptionPaths     OptionType = "paths"     // absolute paths, separated by semicolons
	OptionAddresses OptionType = "addresses" // HOST or HOST:PORT, separated by semicolons
	OptionName      OptionType = "name"      // a distinguished name
)

// How the other end is known, and what a steward signs in with.
const (
	ProofCertificate = "certificate"
	ProofHostKey     = "host-key"
	SignInPassword   = "password"
	SignInPrivateKey = "private-key"
)

// Option is something that can be set of a system.
type Option struct {
	Name    string     `json:"name"`
	Type    OptionType `json:"type" enum:"text,choice,paths,addresses,name"`
	Choices []string   `json:"choices,omitempty" doc:"Settings that are words: all of a choice; of other types those that stand in place of a setting"`
	Default string     `json:"default,omitempty" doc:"What counts when it is not set, in words"`
	Help    string     `json:"help"`
	// Reading: it only says what is read. Others decide where secrets go, and are
	// approved.
	Reading bool `json:"reading,omitempty" doc:"It only says what is read; others decide where secrets go, and are approved"`
	// Adds: the settings of a common option are added to a system's own.
	Adds bool `json:"adds,omitempty" doc:"Settings that many systems share are added to a system's own"`
	// Shared is the option that a common setting goes to in its place; "" for itself.
	Shared string `json:"-"`
}

// Description is a kind of system, as data: what the command line, the API, the
// forms of the console, the documents and the checks of input are made of.
type Description struct {
	Kind    estate.Kind       `json:"kind"`
	Class   estate.Class      `json:"class" enum:"directory,host,data-store,other"`
	Title   string            `json:"title" doc:"As people say it"`
	Port    int               `json:"port" doc:"Used where a system names none"`
	Proof   string            `json:"proof" enum:"certificate,host-key" doc:"How the other end is known"`
	SignIn  []string          `json:"sign_in" nullable:"false" enum:"password,private-key" doc:"What a steward may sign in with"`
	Options []Option          `json:"options" nullable:"false"`
	Scopes  []string          `json:"scopes" nullable:"false" doc:"What a visit reads"`
	Acts    []Act             `json:"acts" nullable:"false" doc:"What systems of this kind can do"`
	Verbs   []string          `json:"verbs" nullable:"false" doc:"What rights on systems of this kind are about, in the words of the kind"`
	Ends    []expiry.Possible `json:"ends" nullable:"false" doc:"Acts about ends, and about what: the first for an act is meant where nobody says"`
}

// Can reports whether systems of the kind can do something.
func (d Description) Can(act Act) bool { return slices.Contains(d.Acts, act) }

// Option returns an option by name.
func (d Description) Option(name string) (Option, bool) {
	i := slices.IndexFunc(d.Options, func(o Option) bool { return o.Name == name })
	if i < 0 {
		return Option{}, false
	}
	return d.Options[i], true
}

// Valid holds settings against the options of the kind.
func (d Description) Valid(settings map[string]string) error {
	names := make([]string, 0, len(d.Options))
	for _, o := range d.Options {
		names = append(names, o.Name)
		if err := o.valid(settings[o.Name]); err != nil {
			return fmt.Errorf("option %s: %w", o.Name, err)
		}
	}
	for name := range settings {
		if !slices.Contains(names, name) {
			return fmt.Errorf("unknown option %q (known for a %s: %s)", name, d.Kind, strings.Join(names, ", "))
		}
	}
	return nil
}

func (o Option) valid(setting string) error {
	switch {
	case setting == "" || slices.Contains(o.Choices, setting):
		return nil
	case strings.ContainsAny(setting, "\r\n\x00"):
		return fmt.Errorf("a setting is one line")
	}
	switch o.Type {
	case OptionChoice:
		return fmt.Errorf("%s, not %q", strings.Join(o.Choices, " or "), setting)
	case OptionPaths:
		for p := range strings.SplitSeq(setting, ";") {
			if p = strings.TrimSpace(p); p != "" && !path.IsAbs(p) {
				return fmt.Errorf("%q is not an absolute path", p)
			}
		}
	case OptionAddresses:
		_, err := roster.Addresses(setting)
		return err
	}
	return nil
}

// Descriptions lists those of all kinds that are registered.
func Descriptions() []Description {
	var out []Description
	for _, kind := range Kinds() {
		if c, ok := For(kind); ok {
			out = append(out, c.Describe())
		}
	}
	return out
}
