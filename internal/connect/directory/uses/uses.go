// Package uses reads what a directory's own log says of who signed in: evidence of
// dependents that nothing else names.
package uses

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// maxRecord is the longest line of a log that is read.
const maxRecord = 1 << 20

// useRecord is what counts of a line of Samba's authentication audit in JSON
// (smb.conf, "log level", class auth_json_audit).
type useRecord struct {
	Timestamp      string `json:"timestamp"`
	Type           string `json:"type"`
	Authentication struct {
		Status        string `json:"status"`
		Remote        string `json:"remoteAddress"`
		Service       string `json:"serviceDescription"`
		Method        string `json:"authDescription"`
		ClientAccount string `json:"clientAccount"`
		MappedAccount string `json:"mappedAccount"`
		BecameSID     string `json:"becameSid"`
	} `json:"Authentication"`
}

// Parse sums up the uses in a log of JSON lines; other lines, and
// what stands before the first brace of one, are passed over. bad counts lines
// that look like records and are none.
func Parse(r io.Reader) (uses []estate.Use, bad int, err error) {
	at := map[estate.Use]int{}
	reader := bufio.NewReaderSize(r, 64<<10)
	for {
		line, tooLong, err := recordLine(reader)
		if len(line) > 0 && !tooLong {
			if begin := bytes.IndexByte(line, '{'); begin >= 0 {
				use, ok, readable := logOn(line[begin:])
				if !readable {
					bad++
				}
				if ok {
					key := use
					key.First, key.Last, key.Count = time.Time{}, time.Time{}, 0
					i, found := at[key]
					if !found {
						i = len(uses)
						at[key] = i
						uses = append(uses, use)
					} else {
						uses[i].Count++
						if use.First.Before(uses[i].First) {
							uses[i].First = use.First
						}
						if use.Last.After(uses[i].Last) {
							uses[i].Last = use.Last
						}
					}
				}
			}
		}
		if tooLong {
			bad++
		}
		if errors.Is(err, io.EOF) {
			return uses, bad, nil
		}
		if err != nil {
			return uses, bad, fmt.Errorf("the log could not be read to its end: %w", err)
		}
	}
}

// recordLine reads a line; one that is too long is read over.
func recordLine(r *bufio.Reader) (line []byte, tooLong bool, err error) {
	for {
		part, err := r.ReadSlice('\n')
		if len(line)+len(part) <= maxRecord {
			line = append(line, part...)
		} else {
			tooLong = true
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return line, tooLong, err
		}
	}
}

func logOn(line []byte) (use estate.Use, ok, readable bool) {
	var r useRecord
	if err := json.Unmarshal(line, &r); err != nil {
		return use, false, false
	}
	if r.Type != "Authentication" {
		return use, false, true
	}
	a := r.Authentication
	when, err := time.Parse("2006-01-02T15:04:05.999999-0700", r.Timestamp)
	if err != nil {
		return use, false, false
	}
	use = estate.Use{Account: a.BecameSID, How: strings.TrimSpace(a.Service + ", " + a.Method), First: when.UTC(), Last: when.UTC(), Count: 1, Failed: a.Status != "NT_STATUS_OK"}
	if use.Failed || use.Account == "" || use.Account == "(NULL SID)" {
		use.Account = a.MappedAccount
	}
	if use.Account == "" {
		use.Account = a.ClientAccount
	}
	// ipv4:192.0.2.7:50022, ipv6:2001:db8::7:50022, unix:
	if family, rest, found := strings.Cut(a.Remote, ":"); found && strings.HasPrefix(family, "ip") {
		if colon := strings.LastIndexByte(rest, ':'); colon > 0 && net.ParseIP(rest[:colon]) != nil {
			use.Client = rest[:colon]
		}
	}
	return use, use.Account != "" && use.Client != "" && !strings.HasSuffix(use.Account, "S-1-5-7"), true
}
