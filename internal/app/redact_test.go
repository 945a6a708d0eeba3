package app

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
)

const canary = "Xy7-canary-91"

// texts are the ways in which systems say a secret; each is planted everywhere.
var texts = []string{
	"/opt/tide/run --password " + canary, "curl https://svc:" + canary + "@tide1.larkmoor.example/", "mysqldump -p" + canary + " tides",
	"PGPASSWORD=" + canary + " psql", "Authorization: Bearer " + canary, `{"password":"` + canary + `"}`, "exec sh -c 'login --secret=" + canary + "'", "the value is " + canary,
}

// plant writes a text into every field of what a value is made of.
func plant(v reflect.Value, text string, depth int) {
	if depth > 8 || !v.CanSet() {
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(text)
	case reflect.Struct:
		for i := range v.NumField() {
			plant(v.Field(i), text, depth+1)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range 2 {
			plant(v.Index(i), text, depth+1)
		}
	case reflect.Pointer:
		if v.IsNil() {
			v.Set(reflect.New(v.Type().Elem()))
		}
		plant(v.Elem(), text, depth+1)
	case reflect.Map:
		if v.Type().Key().Kind() == reflect.String && v.Type().Elem().Kind() == reflect.String {
			v.Set(reflect.MakeMap(v.Type()))
			v.SetMapIndex(reflect.ValueOf("k").Convert(v.Type().Key()), reflect.ValueOf(text).Convert(v.Type().Elem()))
		}
	}
}

// left names the fields in which the canary still stands.
func left(v reflect.Value, path string, out map[string]bool) {
	switch v.Kind() {
	case reflect.String:
		if strings.Contains(v.String(), canary) {
			out[path] = true
		}
	case reflect.Struct:
		for i := range v.NumField() {
			left(v.Field(i), v.Type().Name()+"."+v.Type().Field(i).Name, out)
		}
	case reflect.Slice:
		for i := range v.Len() {
			left(v.Index(i), path, out)
		}
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			left(v.Elem(), path, out)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			left(v.MapIndex(key), path, out)
		}
	}
}

// A secret planted in each field of everything that a connector may emit stands
// in none of them afterwards but in those that identify something; a field that
// is added later is covered by this test and by the redactor.
func TestEveryFieldThatConnectorsEmitIsRedacted(t *testing.T) {
	redactor := &held.Redactor{Known: func(word string) bool { return word == canary }}
	for _, make := range []func() any{
		func() any { return new(connect.Batch) }, func() any { return new(connect.Diagnosis) }, func() any { return new(connect.Facts) },
		func() any { return new(connect.CheckReport) }, func() any { return &[]connect.Checked{{}} }, func() any { return new(connect.Unread) },
	} {
		for _, text := range texts {
			v := make()
			plant(reflect.ValueOf(v).Elem(), text, 0)
			before, after := map[string]bool{}, map[string]bool{}
			left(reflect.ValueOf(v).Elem(), "", before)
			RedactAll(redactor, v)
			left(reflect.ValueOf(v).Elem(), "", after)
			assert.Greater(t, len(before), 0, "%T", v)
			for path := range after {
				kind, field, _ := strings.Cut(path, ".")
				assert.True(t, identities[kind][field], fmt.Sprintf("%T: %s still has %q", v, path, text))
			}
		}
	}
}
