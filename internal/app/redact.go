package app

import (
	"context"
	"reflect"
	"time"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/secret"
)

// Everything that is taken from a system passes one redactor before it is
// stored, logged, sent or shown. It goes through all texts of a value, so that
// a field that is added later is covered; what identifies something is left as
// it is, because it is compared with what the system says the next time.

// identities are fields that are never touched, by their type.
var identities = map[string]map[string]bool{
	"Account":     set("StableID", "Name", "DN", "UPN", "SID", "UID", "Type", "Enabled", "Locked", "Groups", "Principals", "Home", "Pair"),
	"Dependent":   set("Kind", "Place", "Name", "RunsAs", "State", "StartMode", "Path", "Uses", "After", "Requires", "Stored"),
	"Place":       set("Kind", "Place"),
	"Copy":        set("Format", "Key", "Part", "Names", "Fingerprint"),
	"Key":         set("Type", "Fingerprint", "Public", "Mode", "Lets", "Principal", "Encryption", "KeyID"),
	"Session":     set("StableID", "Account", "Client"),
	"Socket":      set("Local", "Peer", "UID", "Unit"),
	"Use":         set("Account", "Client", "Key"),
	"Facts":       set("Domains", "BaseDN", "Identity", "Fingerprint", "KeyType"),
	"Unread":      set("Stage"),
	"StageResult": set("Stage", "Code"),
	"Checked":     set("System", "Result"),
	"Record":      set("Source"),
	"Needed":      set("State", "RunsAs"),
}

func set(names ...string) map[string]bool {
	out := map[string]bool{}
	for _, name := range names {
		out[name] = true
	}
	return out
}

// knownTime is how long the fingerprints of what is in custody are kept.
const knownTime = 5 * time.Second

// Redactor knows what is in custody now.
func (base *Base) Redactor(ctx context.Context) *held.Redactor {
	base.knownLock.Lock()
	known, at := base.known, base.knownAt
	base.knownLock.Unlock()
	if known == nil || base.Now().Sub(at) > knownTime {
		if list, err := base.store.Fingerprints(ctx); err == nil {
			known = map[string]bool{}
			for _, f := range list {
				known[f] = true
			}
			base.knownLock.Lock()
			base.known, base.knownAt = known, base.Now()
			base.knownLock.Unlock()
		}
	}
	if len(known) == 0 {
		return &held.Redactor{}
	}
	return &held.Redactor{Known: func(word string) bool {
		v := secret.New(word)
		return known[base.Fingerprints.Of(v)] && secret.Weak(v) == ""
	}}
}

// ForgetKnown has the next redactor read what is in custody anew.
func (base *Base) ForgetKnown() {
	base.knownLock.Lock()
	defer base.knownLock.Unlock()
	base.known = nil
}

// Redact takes secrets out of a text that a system said.
func (base *Base) Redact(ctx context.Context, text string) string {
	return base.Redactor(context.WithoutCancel(ctx)).Text(text)
}

// RedactAll takes them out of all texts of what a pointer points to.
func RedactAll(r *held.Redactor, pointer any) { redactValue(r, reflect.ValueOf(pointer)) }

func redactValue(r *held.Redactor, v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			redactValue(r, v.Elem())
		}
	case reflect.Struct:
		exempt := identities[v.Type().Name()]
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() && !exempt[field.Name] {
				redactValue(r, v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			redactValue(r, v.Index(i))
		}
	case reflect.Map:
		if v.Type().Elem().Kind() != reflect.String {
			return
		}
		for _, key := range v.MapKeys() {
			clean := reflect.New(v.Type().Elem()).Elem()
			clean.SetString(r.Text(v.MapIndex(key).String()))
			v.SetMapIndex(key, clean)
		}
	case reflect.String:
		if v.CanSet() {
			v.SetString(r.Text(v.String()))
		}
	}
}
