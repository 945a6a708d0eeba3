package reading

import (
	"bytes"
	"cmp"
	"fmt"
	"path"
	"regexp"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/shown"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
)

// keyFile are names of files that hold keys or speak of them.
var keyFile = regexp.MustCompile(`(?i)/\.ssh/(authorized_keys\d?|id_[a-z0-9_-]+)$|/authorized_keys(\.d)?/[^/]+$|\.(keytab|key|pem|crt|cer|ppk|p12|pfx|jks|bcfks)$`)

// keys reports what a file says of keys; it reports whether it holds nothing
// else.
func (f *finder) keys(p string, file shell.ReadFile, content []byte) bool {
	base, dir := path.Base(p), path.Dir(p)
	mode := fmt.Sprintf("%o", file.Mode&0o7777)
	add := func(kind estate.DependentKind, place, name string, key estate.Key) {
		key.Mode = mode
		d := estate.Dependent{Kind: kind, Place: place, Name: name, Path: p, Key: &key}
		f.batch.Dependents = append(f.batch.Dependents, d)
		f.count(connect.ScopeFiles, 1)
	}
	switch {
	case strings.HasPrefix(base, "authorized_keys") || path.Base(strings.TrimSuffix(dir, ".d")) == "authorized_keys":
		account := base
		if strings.HasPrefix(base, "authorized_keys") {
			account = f.homes[path.Dir(dir)]
		}
		entries, bad := keys.ParseAuthorized(content)
		for _, line := range bad {
			f.problem(fmt.Sprintf("%s line %d", p, line), "not an entry: sshd passes over it", "")
		}
		for _, e := range entries {
			name := e.Comment
			if name == "" {
				name = e.Fingerprint
			}
			add(estate.DependentAuthorized, p+"#"+e.Fingerprint, name, estate.Key{Type: e.Type, Fingerprint: e.Fingerprint, Comment: e.Comment, Options: e.Options, Lets: account, Line: e.Line})
		}
		return true
	case strings.HasSuffix(strings.ToLower(base), "keytab"):
		entries, err := keys.ParseKeytab(content)
		if err != nil {
			f.problem(p, err.Error(), "make it anew, or remove it")
		}
		for _, e := range entries {
			add(estate.DependentKeytab, p+"#"+e.Principal, e.Principal, estate.Key{Type: "kerberos", Principal: e.Principal, Version: e.Version, Encryption: e.Types})
		}
		return true
	}
	if kind := keys.Container(content); kind != "" {
		add(estate.DependentKey, p, base, estate.Key{Type: kind, Encrypted: true, Comment: file.Owner})
		return true
	}
	if cloud, ok := keys.ParseCloud(content); ok {
		add(estate.DependentCloudKey, p+"#"+cloud.ID, cloud.Identity, estate.Key{Type: cmp.Or(cloud.Type, "cloud"), Bits: cloud.Bits, Fingerprint: cloud.Fingerprint, KeyID: cloud.ID, Principal: cloud.Identity, Comment: cloud.Project})
		return true
	}
	if !bytes.Contains(content, []byte("-----BEGIN ")) {
		return false
	}
	private, certificates := keys.ParsePEM(content)
	for i, k := range private {
		place := p
		if i > 0 {
			place = fmt.Sprintf("%s#%d", p, i+1)
		}
		add(estate.DependentKey, place, base, estate.Key{Type: k.Type, Bits: k.Bits, Fingerprint: k.Fingerprint, Public: k.Public, Encrypted: k.Encrypted, Comment: file.Owner, Line: k.Line})
	}
	for i, c := range certificates {
		if i == maxCertificates { // a bundle of authorities
			break
		}
		add(estate.DependentCertificate, fmt.Sprintf("%s#certificate %d", p, i+1), c.Subject, shown.Key(c))
	}
	return len(private)+len(certificates) > 0
}

// maxCertificates of one file are told: more are a list of authorities.
const maxCertificates = 4
