package keys

import (
	"bufio"
	"crypto/hmac"
	"crypto/sha1" //nolint:gosec // the format hashes names with it, to hide them; nothing is trusted because of it
	"encoding/base64"
	"fmt"
	"path"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// KnownHost is a line that says which key a host has: of a known_hosts file
// (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"), which ssh-keyscan prints as well.
type KnownHost struct {
	Line        int
	Fingerprint string // SHA256:...
	Revoked     bool   // the key is not to be taken for any of them
	names       []string
}

// UnreadLine is a line that says nothing usable, and why.
type UnreadLine struct {
	Line int    `json:"line"`
	What string `json:"what"`
}

// ParseKnownHosts reads such lines. Comments and empty lines are passed over.
func ParseKnownHosts(text string) (known []KnownHost, unread []UnreadLine) {
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, 1<<20)
	n := 0
	for lines.Scan() {
		n++
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		marker, names, key, _, _, err := ssh.ParseKnownHosts([]byte(line))
		switch {
		case err != nil:
			unread = append(unread, UnreadLine{n, "it is not a line of a known_hosts file: names, type and key are expected"})
		case marker == "cert-authority":
			unread = append(unread, UnreadLine{n, "it names an authority for certificates of hosts, not the key of a host"})
		default:
			known = append(known, KnownHost{Line: n, Fingerprint: ssh.FingerprintSHA256(key), Revoked: marker == "revoked", names: names})
		}
	}
	if err := lines.Err(); err != nil {
		unread = append(unread, UnreadLine{n + 1, fmt.Sprintf("the list could not be read further: %v", err)})
	}
	return known, unread
}

// Of reports whether the line is about a host at a port, by its name or
// address. A pattern with ! takes a host out, wherever it stands in the line.
func (k KnownHost) Of(host string, port int) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	spelled := host
	if port != 0 && port != 22 {
		spelled = "[" + host + "]:" + strconv.Itoa(port)
	}
	found := false
	for _, name := range k.names {
		pattern, not := strings.CutPrefix(strings.ToLower(name), "!")
		matches := false
		if strings.HasPrefix(name, "|1|") { // hashed: as it was written, in any case of letters
			matches = hashedAs(name, spelled)
		} else if bare, at, found := strings.Cut(strings.TrimPrefix(pattern, "["), "]:"); found && strings.HasPrefix(pattern, "[") {
			matches = (at == strconv.Itoa(port) || at == "22" && port == 0) && glob(bare, host)
		} else {
			matches = spelled == host && glob(pattern, host)
		}
		if matches && not {
			return false
		}
		found = found || matches
	}
	return found
}

// glob knows * and ? only; brackets stand for themselves in this format.
func glob(pattern, host string) bool {
	ok, err := path.Match(strings.NewReplacer("[", `\[`, "]", `\]`).Replace(pattern), host)
	return ok && err == nil
}

// hashedAs compares with a hashed name: |1|salt|HMAC-SHA1 of the name with it.
func hashedAs(hashed, name string) bool {
	parts := strings.Split(hashed, "|")
	if len(parts) != 4 {
		return false
	}
	salt, err := base64.StdEncoding.DecodeString(parts[2])
	if err != nil {
		return false
	}
	sum, err := base64.StdEncoding.DecodeString(parts[3])
	if err != nil {
		return false
	}
	mac := hmac.New(sha1.New, salt)
	mac.Write([]byte(name))
	return hmac.Equal(mac.Sum(nil), sum)
}
