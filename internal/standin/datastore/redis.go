package datastore

import (
	"bufio"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Redis is a stand-in for a Redis server with access lists.
type Redis struct {
	server
	tls *tls.Config
}

// NewRedis makes one; config may be nil for a server without TLS.
func NewRedis(config *tls.Config) *Redis { return &Redis{server: newServer(), tls: config} }

func digestOf(password string) string {
	sum := sha256.Sum256([]byte(password))
	return hex.EncodeToString(sum[:])
}

// Add adds a user.
func (r *Redis) Add(a Account) {
	r.lock.Lock()
	defer r.lock.Unlock()
	a.digests = map[string]bool{digestOf(a.Password): true}
	a.Password = ""
	r.accounts[a.Name] = &a
}

// Accepts reports whether a password is one of a user's now.
func (r *Redis) Accepts(name, password string) bool {
	r.lock.Lock()
	defer r.lock.Unlock()
	a := r.accounts[name]
	return a != nil && !a.Rests && a.digests[digestOf(password)]
}

// Serve listens.
func (r *Redis) Serve(address string) (string, error) { return r.serve(address, r.talk) }

var errProtocol = errors.New("not RESP")

// command reads one command: an array of bulk strings.
func command(in *bufio.Reader) ([]string, error) {
	line, err := in.ReadString('\n')
	if err != nil || !strings.HasPrefix(line, "*") {
		return nil, errors.Join(err, errProtocol)
	}
	n, err := strconv.Atoi(strings.TrimSpace(line[1:]))
	if err != nil || n < 1 || n > 100 {
		return nil, errProtocol
	}
	out := make([]string, n)
	for i := range out {
		line, err := in.ReadString('\n')
		if err != nil || !strings.HasPrefix(line, "$") {
			return nil, errors.Join(err, errProtocol)
		}
		size, err := strconv.Atoi(strings.TrimSpace(line[1:]))
		if err != nil || size < 0 || size > 1<<16 {
			return nil, errProtocol
		}
		raw := make([]byte, size+2)
		if _, err := io.ReadFull(in, raw); err != nil {
			return nil, err
		}
		out[i] = string(raw[:size])
	}
	return out, nil
}

func bulk(text string) string { return fmt.Sprintf("$%d\r\n%s\r\n", len(text), text) }

func array(items ...string) string {
	out := fmt.Sprintf("*%d\r\n", len(items))
	for _, item := range items {
		out += bulk(item)
	}
	return out
}

func (r *Redis) talk(conn net.Conn) {
	var stream io.ReadWriter = conn
	if r.tls != nil {
		stream = tls.Server(conn, r.tls)
	}
	in := bufio.NewReader(stream)
	var who *Account
	for {
		words, err := command(in)
		if err != nil {
			return
		}
		reply := r.reply(words, &who)
		if _, err := io.WriteString(stream, reply); err != nil {
			return
		}
	}
}

func (r *Redis) reply(words []string, who **Account) string {
	name := strings.ToUpper(words[0])
	if len(words) > 1 && (name == "ACL" || name == "CLIENT" || name == "CONFIG") {
		name += " " + strings.ToUpper(words[1])
	}
	if name == "AUTH" && len(words) == 3 {
		if !r.Accepts(words[1], words[2]) {
			return "-WRONGPASS invalid username-password pair or user is disabled.\r\n"
		}
		r.lock.Lock()
		*who = r.accounts[words[1]]
		r.lock.Unlock()
		return "+OK\r\n"
	}
	if *who == nil {
		return "-NOAUTH Authentication required.\r\n"
	}
	if name == "PING" {
		return "+PONG\r\n"
	}
	if !(*who).Manages {
		return fmt.Sprintf("-NOPERM User %s has no permissions to run the '%s' command\r\n", (*who).Name, strings.ToLower(name))
	}
	switch name {
	case "INFO":
		return bulk("# Server\r\nredis_version:7.0.15\r\nconfig_file:/etc/redis/redis.conf\r\n# Replication\r\nrole:master\r\nconnected_slaves:0\r\n# Cluster\r\ncluster_enabled:0\r\n")
	case "CLIENT ID":
		return ":1\r\n"
	case "CLIENT LIST":
		var out strings.Builder
		fmt.Fprintf(&out, "id=1 addr=127.0.0.1:1 name=moss user=%s age=0 db=0\n", (*who).Name)
		for i, s := range r.signedIn() {
			fmt.Fprintf(&out, "id=%d addr=%s name=%s user=%s age=%d db=0\n", i+2, net.JoinHostPort(s.Client, strconv.Itoa(s.Port)), s.Application, s.Account, int(time.Since(s.Since).Seconds()))
		}
		return bulk(out.String())
	case "CONFIG GET":
		return array("aclfile", "/etc/redis/users.acl")
	case "ACL SAVE", "CONFIG REWRITE":
		return "+OK\r\n"
	}
	r.lock.Lock()
	defer r.lock.Unlock()
	switch name {
	case "ACL LIST":
		items := []string{"user default off sanitize-payload resetchannels -@all"}
		for _, n := range r.names() {
			items = append(items, "user "+n+" "+r.rules(r.accounts[n]))
		}
		return array(items...)
	case "ACL GETUSER":
		a := r.accounts[words[len(words)-1]]
		if a == nil {
			return "$-1\r\n"
		}
		var digests []string
		for d := range a.digests {
			digests = append(digests, d)
		}
		sort.Strings(digests)
		return "*6\r\n" + bulk("flags") + array(onOff(a)) + bulk("passwords") + array(digests...) + bulk("commands") + bulk("+@all")
	case "ACL DELUSER":
		a := r.accounts[words[2]]
		delete(r.accounts, words[2])
		return map[bool]string{true: ":1\r\n", false: ":0\r\n"}[a != nil]
	case "ACL DRYRUN":
		return "+OK\r\n"
	case "ACL SETUSER":
		return r.setUser(words[2], words[3:])
	}
	return fmt.Sprintf("-ERR unknown command '%s'\r\n", words[0])
}

func onOff(a *Account) string {
	if a.Rests {
		return "off"
	}
	return "on"
}

func (r *Redis) rules(a *Account) string {
	var digests []string
	for d := range a.digests {
		digests = append(digests, "#"+d)
	}
	sort.Strings(digests)
	rights := "~tide:* &* +@read +@write"
	if a.Manages {
		rights = "+acl +client|list"
	}
	return onOff(a) + " " + strings.Join(digests, " ") + " " + rights
}

func (r *Redis) setUser(name string, rules []string) string {
	a := r.accounts[name]
	if a == nil {
		a = &Account{Name: name, digests: map[string]bool{}}
		r.accounts[name] = a
	}
	for _, rule := range rules {
		switch {
		case rule == "on" || rule == "off":
			a.Rests = rule == "off"
		case rule == "resetpass":
			a.digests = map[string]bool{}
		case strings.HasPrefix(rule, "#") && len(rule) == 65:
			a.digests[rule[1:]] = true
		case strings.HasPrefix(rule, "!"):
			delete(a.digests, rule[1:])
		case strings.HasPrefix(rule, ">"):
			a.digests[digestOf(rule[1:])] = true
		default:
			return "-ERR Error in ACL SETUSER modifier '" + rule + "': Syntax error\r\n"
		}
	}
	return "+OK\r\n"
}
