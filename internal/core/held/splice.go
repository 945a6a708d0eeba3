package held

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/secret"
)

// Errors of Find and Splice.
var (
	ErrNotThere    = errors.New("nothing stands at that place any more")
	ErrCannotCarry = errors.New("the layout cannot carry that value")
)

// Find returns the span at a locator.
func Find(content []byte, hint Hint, at Locator) (Span, error) {
	// Every value counts as a secret here: the place is already known.
	located, err := Locate(content, hint, func(secret.Value) bool { return true })
	if err != nil {
		return Span{}, err
	}
	for _, span := range located.Spans {
		if span.Locator == at {
			return span, nil
		}
	}
	return Span{}, fmt.Errorf("%w: %s", ErrNotThere, at)
}

// HintFor gives back a hint under which a locator's layout is read.
func HintFor(at Locator) Hint {
	switch at.Layout {
	case LayoutWhole:
		return HintCredential
	case LayoutEnv:
		return HintEnv
	default:
		return HintNone
	}
}

// Splice returns content with the value at the locator replaced. Every byte
// outside the span is as it was. The result is read again and compared before
// it is returned.
func Splice(content []byte, at Locator, value secret.Value) ([]byte, error) {
	hint := HintFor(at)
	span, err := Find(content, hint, at)
	if err != nil {
		return nil, err
	}
	text := value.RevealString()
	if at.Part == PartURL {
		raw, ok := rawURLPassword(span.decoded)
		if !ok {
			return nil, fmt.Errorf("%w: %s is no longer a URL with a password", ErrNotThere, at)
		}
		text = span.decoded[:raw[0]] + percentEncode(text) + span.decoded[raw[1]:]
	}
	encoded, err := encode(text, content[span.Start:span.End], at.Layout)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 0, len(content)+len(encoded))
	out = append(out, content[:span.Start]...)
	out = append(out, encoded...)
	out = append(out, content[span.End:]...)
	again, err := Find(out, hint, at)
	if err != nil || !again.Value.Equal(value) || again.Start != span.Start ||
		!bytes.Equal(out[again.End:], content[span.End:]) {
		return nil, fmt.Errorf("%w: %s would not read back as written", ErrCannotCarry, at)
	}
	return out, nil
}

// encode writes a value in the quoting of the one that it replaces, or in a
// stronger one where that is needed.
func encode(text string, old []byte, layout Layout) (string, error) {
	if strings.ContainsAny(text, "\x00\r\n") {
		return "", fmt.Errorf("%w: it contains a line end or NUL", ErrCannotCarry)
	}
	quote := byte(0)
	if len(old) >= 2 && (old[0] == '"' || old[0] == '\'') && old[len(old)-1] == old[0] {
		quote = old[0]
	}
	switch layout {
	case LayoutWhole:
		return text, nil
	case LayoutJSON:
		return encodeJSON(text)
	case LayoutYAML:
		return encodeYAML(text, quote)
	case LayoutConf:
		if quote != 0 {
			return string(quote) + text + string(quote), nil
		}
		if text != strings.TrimSpace(text) || len(text) >= 2 && (text[0] == '"' || text[0] == '\'') {
			return "", fmt.Errorf("%w: leading or trailing blanks or quotes in an unquoted value", ErrCannotCarry)
		}
		return text, nil
	}
	plain := strings.IndexFunc(text, func(r rune) bool {
		return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.ContainsRune("_-.~+@%:,/=^", r))
	}) < 0
	switch {
	case quote == 0 && plain && text != "" && text[0] != '~':
		return text, nil
	case quote != '"' && !strings.Contains(text, "'"):
		return "'" + text + "'", nil
	default:
		var out strings.Builder
		out.WriteByte('"')
		for _, r := range text {
			if strings.ContainsRune("\"\\`$", r) {
				out.WriteByte('\\')
			}
			out.WriteRune(r)
		}
		out.WriteByte('"')
		return out.String(), nil
	}
}

// percentEncode keeps only the unreserved characters of RFC 3986, section 2.3.
func percentEncode(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("-_.~", c) >= 0 {
			out.WriteByte(c)
		} else {
			fmt.Fprintf(&out, "%%%02X", c)
		}
	}
	return out.String()
}
