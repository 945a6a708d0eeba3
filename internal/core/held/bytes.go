package held

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"net/url"
	"slices"
	"strings"
	"unicode/utf16"

	"mossledger.example/moss/internal/core/secret"
)

// Finder finds known values in bytes, whatever surrounds them: in clear and in
// the encodings in which programs commonly keep them. It is made for many
// values and reads the bytes once. What it finds is a copy, whether a layout
// understands it or not.
type Finder struct {
	patterns map[uint64][]pattern // by their first eight bytes
}

type pattern struct {
	text     []byte
	encoding string
	value    int
}

// Hit is a value that stands in bytes.
type Hit struct {
	Value      int // of the list that the Finder was made of
	Start, End int
	Encoding   string
}

const windowSize = 8

// NewFinder makes one. Values of fewer than eight bytes are passed over: they
// stand anywhere.
func NewFinder(values []secret.Value) *Finder {
	f := &Finder{patterns: map[uint64][]pattern{}}
	for i, v := range values {
		text := v.Reveal()
		if len(text) < windowSize {
			continue
		}
		seen := map[string]bool{}
		for _, p := range encodings(text) {
			if len(p.text) < windowSize || seen[string(p.text)] {
				continue
			}
			seen[string(p.text)] = true
			p.value = i
			key := binary.LittleEndian.Uint64(p.text)
			f.patterns[key] = append(f.patterns[key], p)
		}
	}
	return f
}

// encodings are the ways in which a value may stand in bytes.
func encodings(text []byte) []pattern {
	out := []pattern{{text: text, encoding: "clear"}}
	add := func(encoding string, encoded []byte) {
		out = append(out, pattern{text: encoded, encoding: encoding})
	}
	add("hexadecimal", []byte(hex.EncodeToString(text)))
	add("hexadecimal", bytes.ToUpper([]byte(hex.EncodeToString(text))))
	add("URL", []byte(url.QueryEscape(string(text))))
	add("URL", []byte(url.PathEscape(string(text))))
	add("URL", []byte(percentEncode(string(text))))
	if quoted, err := json.Marshal(string(text)); err == nil {
		add("JSON", quoted[1:len(quoted)-1])
	}
	var escaped bytes.Buffer
	if xml.EscapeText(&escaped, text) == nil {
		add("XML", escaped.Bytes())
	}
	add("XML", []byte(strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(string(text))))
	add("shell", []byte(strings.ReplaceAll(string(text), "'", `'\''`)))
	for _, order := range []struct {
		name string
		put  func([]byte, uint16) []byte
	}{{"UTF-16", binary.LittleEndian.AppendUint16}, {"UTF-16, big-endian", binary.BigEndian.AppendUint16}} {
		var wide []byte
		for _, unit := range utf16.Encode([]rune(string(text))) {
			wide = order.put(wide, unit)
		}
		add(order.name, wide)
		base64Forms(wide, "base64 of "+order.name, add)
	}
	base64Forms(text, "base64", add)
	return out
}

// base64Forms are the letters that a value gives inside a longer text, at each
// of the three places where it may begin. The first and last letters depend on
// what is beside it and are left out.
func base64Forms(text []byte, name string, add func(string, []byte)) {
	for shift := range 3 {
		padded := append(make([]byte, shift), text...)
		whole := base64.StdEncoding.EncodeToString(padded)
		first := (shift*8 + 5) / 6
		last := len(padded) * 8 / 6
		if last <= first {
			continue
		}
		inner := whole[first:last]
		add(name, []byte(inner))
		add(name, []byte(strings.NewReplacer("+", "-", "/", "_").Replace(inner)))
	}
}

// Find returns what stands in content, each value once for each place.
func (f *Finder) Find(content []byte) []Hit {
	var out []Hit
	if f == nil || len(f.patterns) == 0 || len(content) < windowSize {
		return nil
	}
	for at := 0; at+windowSize <= len(content); at++ {
		for _, p := range f.patterns[binary.LittleEndian.Uint64(content[at:])] {
			if bytes.HasPrefix(content[at:], p.text) {
				out = append(out, Hit{Value: p.value, Start: at, End: at + len(p.text), Encoding: p.encoding})
			}
		}
	}
	// Of hits of one value that overlap the longest is told.
	slices.SortStableFunc(out, func(a, b Hit) int { return (b.End - b.Start) - (a.End - a.Start) })
	var kept []Hit
	for _, h := range out {
		if !slices.ContainsFunc(kept, func(k Hit) bool { return k.Value == h.Value && h.Start < k.End && k.Start < h.End }) {
			kept = append(kept, h)
		}
	}
	slices.SortFunc(kept, func(a, b Hit) int { return a.Start - b.Start })
	return kept
}
