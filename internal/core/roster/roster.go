// Package roster reads lists of systems: CSV with a header line (RFC 4180), also with
// semicolons or tabs as spreadsheets write it, or plain text with one name a line. A bad row is reported with its line and
// column and stops nobody else.
package roster

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Row is one system of the list.
type Row struct {
	Line        int
	Name        string
	Address     string
	Port        int
	Kind        string
	Steward     string
	Site        string
	Environment string
	Owner       string
	Paths       string // extra paths to read, separated by ;
}

// Problem is a row, or a part of one, that could not be used.
type Problem struct {
	Line   int    `json:"line"`
	Column string `json:"column,omitempty"`
	Text   string `json:"text,omitempty"`
	What   string `json:"what"`
}

func (p Problem) String() string {
	where := fmt.Sprintf("line %d", p.Line)
	if p.Column != "" {
		where += ", column " + p.Column
	}
	if p.Text != "" {
		where += fmt.Sprintf(" (%q)", p.Text)
	}
	return where + ": " + p.What
}

// Limits of what is read.
const (
	MaxLine = 64 << 10 // bytes in one line
	MaxName = 255      // bytes in a name (RFC 1035, section 2.3.4)
)

// ErrNoList is returned when the input as a whole is not a list.
var ErrNoList = errors.New("not a list of systems")

var columns = map[string]func(*Row, string) error{
	"name":        func(r *Row, v string) error { r.Name = v; return nil },
	"address":     setAddress,
	"port":        setPort,
	"kind":        setKind,
	"steward":     func(r *Row, v string) error { r.Steward = v; return nil },
	"site":        func(r *Row, v string) error { r.Site = v; return nil },
	"environment": func(r *Row, v string) error { r.Environment = v; return nil },
	"owner":       func(r *Row, v string) error { r.Owner = v; return nil },
	"paths":       func(r *Row, v string) error { r.Paths = v; return nil },
}

// Read reads a whole list. The error is about the list as a whole; everything
// else is in the problems, and good rows are returned beside them.
func Read(in io.Reader) ([]Row, []Problem, error) {
	lines, problems, err := splitLines(in)
	if err != nil {
		return nil, problems, err
	}
	first := -1
	for i, line := range lines {
		if text := strings.TrimSpace(line.text); text != "" && text[0] != '#' {
			first = i
			break
		}
	}
	if first < 0 {
		return nil, problems, fmt.Errorf("%w: it has no lines", ErrNoList)
	}
	var rows []Row
	var more []Problem
	if comma := separator(lines[first].text); comma == 0 {
		rows, more = readPlain(lines[first:])
	} else if rows, more, err = readCSV(lines[first:], comma); err != nil {
		return nil, problems, err
	}
	problems = append(problems, more...)
	return withoutDuplicates(rows, problems)
}

type numbered struct {
	number int
	text   string
}

// splitLines copes with a byte order mark, CRLF, and lines that are far too
// long, which are reported and dropped without being held in memory.
func splitLines(in io.Reader) ([]numbered, []Problem, error) {
	reader := bufio.NewReaderSize(in, MaxLine)
	var out []numbered
	var problems []Problem
	for number := 1; ; number++ {
		line, err := reader.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			length := len(line)
			for errors.Is(err, bufio.ErrBufferFull) {
				line, err = reader.ReadSlice('\n')
				length += len(line)
			}
			problems = append(problems, Problem{Line: number, What: fmt.Sprintf("%d bytes long, at most %d are read: passed over", length, MaxLine)})
		} else {
			text := bytes.TrimRight(line, "\r\n")
			if number == 1 {
				text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
			}
			if !utf8.Valid(text) {
				problems = append(problems, Problem{Line: number, What: "not valid UTF-8: passed over"})
			} else if len(text) > 0 {
				out = append(out, numbered{number, string(text)})
			}
		}
		if errors.Is(err, io.EOF) {
			return out, problems, nil
		}
		if err != nil {
			return out, problems, fmt.Errorf("read the list: %w", err)
		}
	}
}

// separator is what stands between the fields of a header: a comma, or what
// spreadsheets write in its place where a comma is the decimal mark; 0 when it is no
// header.
func separator(header string) rune {
	header = strings.ToLower(strings.TrimSpace(header))
	if strings.Contains(header, ",") || header == "name" || header == `"name"` {
		return ','
	}
	for _, comma := range ";\t" {
		for field := range strings.SplitSeq(header, string(comma)) {
			if strings.Contains(header, string(comma)) && columns[strings.Trim(strings.TrimSpace(field), `"`)] != nil {
				return comma
			}
		}
	}
	return 0
}

func readPlain(lines []numbered) (rows []Row, problems []Problem) {
	for _, line := range lines {
		text := withoutComment(strings.TrimSpace(line.text))
		if text == "" {
			continue
		}
		row := Row{Line: line.number, Name: text}
		if host, port, ok := splitPort(text); ok {
			row.Name, row.Address = host, host
			if err := setPort(&row, port); err != nil {
				problems = append(problems, Problem{line.number, "port", text, err.Error()})
				continue
			}
		}
		if err := CheckName(row.Name); err != nil {
			problems = append(problems, Problem{line.number, "name", clip(text), err.Error()})
			continue
		}
		rows = append(rows, row)
	}
	return rows, problems
}

// withoutComment drops what follows a # that begins the line or stands after a space:
// no name has spaces.
func withoutComment(text string) string {
	for i := range len(text) {
		if text[i] == '#' && (i == 0 || text[i-1] == ' ' || text[i-1] == '\t') {
			return strings.TrimSpace(text[:i])
		}
	}
	return text
}

func readCSV(lines []numbered, comma rune) (rows []Row, problems []Problem, err error) {
	header, err := fields(lines[0].text, comma)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: line %d: %w", ErrNoList, lines[0].number, err)
	}
	hasName := false
	for i := range header {
		header[i] = strings.ToLower(strings.TrimSpace(header[i]))
		if columns[header[i]] == nil {
			return nil, nil, fmt.Errorf("%w: line %d: unknown column %q (known: name, address, port, kind, steward, site, environment, owner, paths)", ErrNoList, lines[0].number, clip(header[i]))
		}
		hasName = hasName || header[i] == "name"
	}
	if !hasName {
		return nil, nil, fmt.Errorf("%w: line %d: the column name is missing", ErrNoList, lines[0].number)
	}
line:
	for _, line := range lines[1:] {
		if strings.TrimSpace(line.text) == "" || strings.HasPrefix(line.text, "#") {
			continue
		}
		values, err := fields(line.text, comma)
		if err != nil {
			problems = append(problems, Problem{Line: line.number, What: err.Error()})
			continue
		}
		if len(values) != len(header) {
			problems = append(problems, Problem{Line: line.number, Text: clip(line.text), What: fmt.Sprintf("%d fields, the header has %d", len(values), len(header))})
			continue
		}
		row := Row{Line: line.number}
		for i, value := range values {
			value = strings.TrimSpace(value)
			if err := columns[header[i]](&row, value); err != nil {
				problems = append(problems, Problem{line.number, header[i], clip(value), err.Error()})
				continue line
			}
		}
		if err := CheckName(row.Name); err != nil {
			problems = append(problems, Problem{line.number, "name", clip(row.Name), err.Error()})
			continue
		}
		rows = append(rows, row)
	}
	return rows, problems, nil
}

func fields(text string, comma rune) ([]string, error) {
	reader := csv.NewReader(strings.NewReader(text))
	reader.Comma = comma
	reader.FieldsPerRecord = -1
	values, err := reader.Read()
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		return nil, fmt.Errorf("broken CSV at character %d: %w (a quoted field may not contain a line end)", parse.Column, parse.Err)
	}
	return values, err
}

func withoutDuplicates(rows []Row, problems []Problem) ([]Row, []Problem, error) {
	seen := map[string]int{}
	out := rows[:0]
	for _, row := range rows {
		key := strings.ToLower(row.Name)
		if first, found := seen[key]; found {
			problems = append(problems, Problem{row.Line, "name", row.Name, fmt.Sprintf("the same name stands on line %d: taken once", first)})
			continue
		}
		seen[key] = row.Line
		out = append(out, row)
	}
	return out, problems, nil
}

// CheckName says why a text cannot be a system's name, or nil.
func CheckName(name string) error {
	switch {
	case name == "":
		return errors.New("it is empty")
	case len(name) > MaxName:
		return fmt.Errorf("%d bytes long, a name has at most %d", len(name), MaxName)
	}
	for i, r := range name {
		if unicode.IsControl(r) || unicode.IsSpace(r) || strings.ContainsRune(`,;"'\/@`, r) {
			return fmt.Errorf("character %q at byte %d cannot stand in a system's name", r, i)
		}
	}
	return nil
}

func setAddress(r *Row, value string) error {
	host, port, ok := splitPort(value)
	if !ok {
		r.Address = strings.Trim(value, "[]")
		return checkAddress(r.Address)
	}
	r.Address = host
	if err := checkAddress(host); err != nil {
		return err
	}
	return setPort(r, port)
}

// splitPort takes name:port or [IPv6]:port apart.
func splitPort(text string) (host, port string, ok bool) {
	i := strings.LastIndexByte(text, ':')
	if i < 0 {
		return "", "", false
	}
	host, port = text[:i], text[i+1:]
	if strings.HasPrefix(host, "[") && strings.HasSuffix(host, "]") {
		return host[1 : len(host)-1], port, true
	}
	return host, port, !strings.Contains(host, ":")
}

func isIP(text string) bool {
	_, err := netip.ParseAddr(text)
	return err == nil
}

func checkAddress(address string) error {
	if address == "" {
		return nil
	}
	if strings.ContainsAny(address, ":") && !isIP(address) {
		return errors.New("not an address: write name, name:port, an IP address, or [IPv6]:port")
	}
	return CheckName(address)
}

func setPort(r *Row, value string) error {
	if value == "" {
		return nil
	}
	port, err := strconv.ParseUint(value, 10, 16)
	if err != nil || port == 0 {
		return errors.New("not a port: 1 to 65535")
	}
	r.Port = int(port)
	return nil
}

func setKind(r *Row, value string) error {
	switch value {
	case "", "unix-host", "windows-host", "directory", "postgresql", "mariadb", "redis":
		r.Kind = value
		return nil
	}
	return errors.New("unknown kind: unix-host, windows-host, directory, postgresql, mariadb or redis")
}

func clip(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "..."
	}
	return text
}

// Nearest returns the known name that differs least from name, if it is near
// enough for a slip of the keyboard (up to two edits), for "did you mean".
func Nearest(name string, known []string) (string, bool) {
	near := Near(name, known, 1)
	if len(near) == 0 {
		return "", false
	}
	return near[0], true
}

// Near returns the known names that are near enough to name for a slip of the
// keyboard, the nearest first, at most so many.
func Near(name string, known []string, most int) []string {
	var out [3][]string // by the number of edits
	for _, candidate := range known {
		if candidate == name || len(candidate) > MaxName {
			continue
		}
		if d := edits(strings.ToLower(name), strings.ToLower(candidate)); d < 3 && !slices.Contains(out[d], candidate) {
			out[d] = append(out[d], candidate)
		}
	}
	all := slices.Concat(out[:]...)
	return all[:min(most, len(all))]
}

// edits counts insertions, deletions, replacements and swaps of neighbours.
func edits(a, b string) int {
	if len(a)-len(b) > 2 || len(b)-len(a) > 2 {
		return 3
	}
	var before []int
	last := make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row := make([]int, len(b)+1)
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last = last, row
	}
	return last[len(b)]
}
