package operate

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

// redactor knows what is in custody now.
func (o *Operator) redactor(ctx context.Context) *held.Redactor {
	o.lock.Lock()
	known, at := o.known, o.knownAt
	o.lock.Unlock()
	if known == nil || o.Now().Sub(at) > knownTime {
		if list, err := o.Store.Fingerprints(ctx); err == nil {
			known = map[string]bool{}
			for _, f := range list {
				known[f] = true
			}
			o.lock.Lock()
			o.known, o.knownAt = known, o.Now()
			o.lock.Unlock()
		}
	}
	if len(known) == 0 {
		return &held.Redactor{}
	}
	return &held.Redactor{Known: func(word string) bool {
		v := secret.New(word)
		return known[o.fingerprints.Of(v)] && secret.Weak(v) == ""
	}}
}

// forgetKnown has the next redactor read what is in custody anew.
func (o *Operator) forgetKnown() {
	o.lock.Lock()
	defer o.lock.Unlock()
	o.known = nil
}

// redact takes secrets out of a text that a system said.
func (o *Operator) redact(ctx context.Context, text string) string {
	return o.redactor(context.WithoutCancel(ctx)).Text(text)
}

// redactAll takes them out of all texts of what a pointer points to.
func redactAll(r *held.Redactor, pointer any) { redactValue(r, reflect.ValueOf(pointer)) }

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

// Redact takes secrets out of a text that a system said.
func (o *Operator) Redact(text string) string { return o.redact(context.Background(), text) }
