package layout

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"
)

// scanProperties reads the layout of java.util.Properties: key and value are
// separated by =, : or blank; lines go on after a backslash; \u with four digits
// and a few letters are escapes.
func scanProperties(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	lines(content, "#!", func(start, end, number int) int {
		// The logical line goes on while an odd number of backslashes ends it.
		for end < len(content) && oddBackslashes(content[start:end]) {
			next := nextLine(content, end)
			if next >= len(content) {
				break
			}
			end = lineEnd(content, next)
		}
		at := start
		for at < end && content[at] != '=' && content[at] != ':' && content[at] != ' ' && content[at] != '\t' {
			if content[at] == '\\' {
				at++
			}
			at++
		}
		at = min(at, end)
		key, err := unproperty(content[start:at])
		from := blanks(content, at, end)
		if from < end && (content[from] == '=' || content[from] == ':') {
			from = blanks(content, from+1, end)
		}
		text, valueErr := unproperty(content[from:end])
		if err != nil || valueErr != nil {
			problems = append(problems, Problem{number, "an escape is written wrongly"})
			return end
		}
		out = append(out, Value{Key: key, Name: key, Start: from, End: end, Line: number, Text: text})
		return end
	})
	return out, problems, nil
}

func oddBackslashes(text []byte) bool {
	n := 0
	for n < len(text) && text[len(text)-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}

func unproperty(raw []byte) (string, error) {
	var out strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 >= len(raw) {
			out.WriteByte(raw[i])
			continue
		}
		i++
		switch raw[i] {
		case 't':
			out.WriteByte('\t')
		case 'n':
			out.WriteByte('\n')
		case 'r':
			out.WriteByte('\r')
		case 'f':
			out.WriteByte('\f')
		case '\r', '\n': // goes on, without leading blanks
			i = blanks(raw, nextLine(raw, i), len(raw)) - 1
		case 'u':
			unit, err := hex4(raw[i+1:])
			if err != nil {
				return "", err
			}
			i += 4
			r := rune(unit)
			if utf16.IsSurrogate(r) && i+2 < len(raw) && raw[i+1] == '\\' && raw[i+2] == 'u' {
				low, err := hex4(raw[i+3:])
				if err != nil {
					return "", err
				}
				r = utf16.DecodeRune(r, rune(low))
				i += 6
			}
			out.WriteRune(r)
		default:
			out.WriteByte(raw[i])
		}
	}
	return out.String(), nil
}

func hex4(raw []byte) (uint64, error) {
	if len(raw) < 4 {
		return 0, fmt.Errorf("\\u needs four digits")
	}
	return strconv.ParseUint(string(raw[:4]), 16, 16)
}

// encodeProperty escapes what is no ASCII: which encoding the reader takes the
// file for is not known.
func encodeProperty(text string, _ []byte, _ Value, _ []byte) (string, error) {
	var out strings.Builder
	for i, r := range text {
		switch {
		case r == 0:
			return "", fmt.Errorf("%w: it contains NUL", ErrCannotCarry)
		case r == '\\':
			out.WriteString(`\\`)
		case r == ' ' && i == 0:
			out.WriteString(`\ `)
		case r == '\t':
			out.WriteString(`\t`)
		case r == '\n':
			out.WriteString(`\n`)
		case r == '\r':
			out.WriteString(`\r`)
		case r == '\f':
			out.WriteString(`\f`)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		case r > 0x7e || r < 0x20:
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteRune(r)
		}
	}
	return out.String(), nil
}
