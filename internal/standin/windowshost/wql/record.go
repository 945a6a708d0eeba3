package wql

import (
	"slices"
	"strconv"
	"strings"
)

// Field is a property, its name and its value: nil, string, bool, int, time.Time,
// []string, record, []record or reference.
type Field [2]any

// Name of the property.
func (f Field) Name() string { return f[0].(string) }

// Value of the property.
func (f Field) Value() any { return f[1] }

// Record is an instance.
type Record struct {
	Class  string
	Keys   []string
	Fields []Field
}

// NewRecord makes an instance of a class; keys name the properties that tell it from
// others.
func NewRecord(class string, keys []string, fields []Field) Record {
	return Record{class, keys, fields}
}

// Get returns the value of a property; nil when it has none.
func (r Record) Get(name string) any {
	for _, f := range r.Fields {
		if strings.EqualFold(f.Name(), name) {
			return f.Value()
		}
	}
	return nil
}

// Has reports whether there is such a property.
func (r Record) Has(name string) bool {
	return slices.ContainsFunc(r.Fields, func(f Field) bool { return strings.EqualFold(f.Name(), name) })
}

// Reference points to an instance.
type Reference struct {
	Class     string
	Selectors [][2]string
}

// NewReference points to the instance that selectors choose.
func NewReference(class string, selectors [][2]string) Reference {
	return Reference{class, selectors}
}

// path writes a reference as queries compare it.
func (r Reference) path() string {
	var parts []string
	for _, s := range r.Selectors {
		parts = append(parts, s[0]+`="`+s[1]+`"`)
	}
	return r.Class + "." + strings.Join(parts, ",")
}

// Bytes is an array of bytes as instances carry it.
func Bytes(data []byte) any {
	if len(data) == 0 {
		return nil
	}
	out := make([]string, len(data))
	for i, b := range data {
		out[i] = strconv.Itoa(int(b))
	}
	return out
}
