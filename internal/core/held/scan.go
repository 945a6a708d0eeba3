package held

import (
	"bytes"
	"fmt"
	"strings"
)

// assignment is one key with its raw and decoded value.
type assignment struct {
	key        string
	start, end int // of the raw value
	number     int // line
	value      string
}

// scan splits content into assignments. Lines that are none are reported and
// passed over.
func scan(content []byte, layout Layout) ([]assignment, []Problem) {
	var out []assignment
	var problems []Problem
	at := 0
	if bytes.HasPrefix(content, byteOrder) {
		at = len(byteOrder)
	}
	number := 1
	for at < len(content) {
		lineStart := at
		end := lineEnd(content, at)
		line := string(content[at:end])
		trimmed := strings.TrimLeft(line, " \t")
		body := strings.TrimRight(trimmed, " \t")
		switch {
		case body == "" || body[0] == '#' || body[0] == ';':
			at = nextLine(content, end)
			number++
			continue
		case layout == LayoutConf && sectionLine.MatchString(body):
			at = nextLine(content, end)
			number++
			continue
		}
		offset := lineStart + len(line) - len(trimmed)
		for _, word := range []string{"export ", "export\t"} {
			if strings.HasPrefix(trimmed, word) {
				offset += len(word)
				trimmed = trimmed[len(word):]
			}
		}
		equals := strings.IndexByte(trimmed, '=')
		key := ""
		if equals >= 0 {
			key = strings.TrimSpace(trimmed[:equals])
		}
		if !keyPattern.MatchString(key) {
			problems = append(problems, Problem{number, "not a key=value line"})
			at = nextLine(content, end)
			number++
			continue
		}
		valueStart := offset + equals + 1
		for valueStart < end && (content[valueStart] == ' ' || content[valueStart] == '\t') {
			valueStart++
		}
		var a assignment
		var stop int
		if layout == LayoutConf {
			a, stop = confValue(content, valueStart, end)
		} else {
			var problem string
			a, stop, problem = envValue(content, valueStart)
			if problem != "" {
				problems = append(problems, Problem{number, problem})
			}
		}
		a.key, a.number = key, number
		out = append(out, a)
		number += bytes.Count(content[lineStart:stop], []byte("\n"))
		at = nextLine(content, stop)
		number++
	}
	return out, problems
}

func lineEnd(content []byte, at int) int {
	if i := bytes.IndexAny(content[at:], "\r\n"); i >= 0 {
		return at + i
	}
	return len(content)
}

func nextLine(content []byte, end int) int {
	if end < len(content) && content[end] == '\r' {
		end++
	}
	if end < len(content) && content[end] == '\n' {
		end++
	}
	return end
}

// confValue: up to the end of the line, quotes around the whole are dropped.
func confValue(content []byte, start, end int) (assignment, int) {
	stop := end
	for end > start && (content[end-1] == ' ' || content[end-1] == '\t') {
		end--
	}
	value := string(content[start:end])
	if len(value) >= 2 && (value[0] == '"' || value[0] == '\'') && value[len(value)-1] == value[0] {
		value = value[1 : len(value)-1]
	}
	return assignment{start: start, end: end, value: value}, stop
}

// envValue follows systemd's reading of environment files: unquoted parts with
// backslash escapes, 'single' and "double" quoted parts one after another;
// quoted parts may span lines; trailing blanks of unquoted text do not count.
func envValue(content []byte, start int) (a assignment, stop int, problem string) {
	var value []byte
	kept := 0 // length of value up to the last byte that counts
	end := start
	i := start
	for i < len(content) {
		c := content[i]
		switch {
		case c == '\n' || c == '\r':
			return assignment{start: start, end: end, value: string(value[:kept])}, i, ""
		case c == '\\':
			if i+1 >= len(content) {
				i++
				continue
			}
			next := content[i+1]
			if next == '\n' || next == '\r' {
				i = nextLine(content, i+1)
				continue
			}
			value = append(value, next)
			i += 2
			kept, end = len(value), i
		case c == '\'' || c == '"':
			closed := false
			j := i + 1
			for j < len(content) {
				d := content[j]
				if d == c {
					closed = true
					break
				}
				if c == '"' && d == '\\' && j+1 < len(content) {
					next := content[j+1]
					switch {
					case strings.IndexByte("\"\\`$", next) >= 0:
						value = append(value, next)
					case next == '\n':
					default:
						value = append(value, d, next)
					}
					j += 2
					continue
				}
				value = append(value, d)
				j++
			}
			if !closed {
				lineStop := lineEnd(content, start)
				return assignment{start: start, end: lineStop, value: ""}, lineStop, fmt.Sprintf("the quote %c is never closed", c)
			}
			i = j + 1
			kept, end = len(value), i
		default:
			value = append(value, c)
			i++
			if c != ' ' && c != '\t' {
				kept, end = len(value), i
			}
		}
	}
	return assignment{start: start, end: end, value: string(value[:kept])}, len(content), ""
}
