package keys

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/keytab"

	"mossledger.example/moss/internal/core/secret"
)

// A key tab holds no password but keys that were made of one with a salt (RFC 3961,
// section 5; the salt of an account is what its key distribution center says, mostly the
// realm and the account's name). So it is a derived copy: with the password that is in
// force, and the salts that come into question, the keys that stand there tell which salt
// it was, and the keys of the next password can be made. The keys of earlier versions
// stay beside the new ones: tickets that were given out before go on for hours.

// TabKeys are the keys of a principal in a key tab, of its newest version.
type TabKeys struct {
	Version int
	Time    uint32
	keys    map[int32][]byte // by type of encryption
}

// ErrNoPrincipal says that a key tab has no entry of a principal.
var ErrNoPrincipal = errors.New("the key tab has no entry of this principal")

// NewestKeys reads the keys of a principal (name/host@REALM).
func NewestKeys(content []byte, principal string) (newest TabKeys, err error) {
	defer func() { // the parser trusts lengths
		if r := recover(); r != nil {
			newest, err = TabKeys{}, fmt.Errorf("not a whole key tab: %v", r)
		}
	}()
	if len(content) < 2 || content[0] != 5 || content[1] != 2 {
		return newest, errors.New("not a key tab of version 2 of its format")
	}
	if err := wholeRecords(content); err != nil {
		return newest, err
	}
	tab := keytab.New()
	if err := tab.Unmarshal(content); err != nil {
		return newest, fmt.Errorf("not a whole key tab: %w", err)
	}
	newest.keys = map[int32][]byte{}
	for _, e := range tab.Entries {
		if strings.Join(e.Principal.Components, "/")+"@"+e.Principal.Realm != principal {
			continue
		}
		version := max(int(e.KVNO), int(e.KVNO8))
		if version > newest.Version {
			newest.Version, newest.keys = version, map[int32][]byte{}
		}
		if version == newest.Version {
			newest.keys[e.Key.KeyType] = bytes.Clone(e.Key.KeyValue)
			newest.Time = max(newest.Time, uint32(max(0, e.Timestamp.Unix())))
		}
	}
	if len(newest.keys) == 0 {
		return newest, fmt.Errorf("%w: %s", ErrNoPrincipal, principal)
	}
	return newest, nil
}

// derive makes the key of a type of a password.
func derive(kind int32, password secret.Value, salt string) ([]byte, error) {
	way, err := crypto.GetEtype(kind)
	if err != nil {
		return nil, fmt.Errorf("keys of type %d are not made here: %w", kind, err)
	}
	return way.StringToKey(password.RevealString(), salt, way.GetDefaultStringToKeyParams())
}

// unsalted are types whose keys are made without a salt (RFC 4757).
var unsalted = []int32{23, 24}

// MadeOf reports whether all keys are made of a password, and with which of the salts;
// "" where none of them needs one.
func (k TabKeys) MadeOf(password secret.Value, salts []string) (salt string, made bool) {
	kinds := k.kinds()
	if !slices.ContainsFunc(kinds, func(kind int32) bool { return !slices.Contains(unsalted, kind) }) {
		salts = []string{""}
	}
	for _, salt := range salts {
		fits := !slices.ContainsFunc(kinds, func(kind int32) bool {
			key, err := derive(kind, password, salt)
			return err != nil || !bytes.Equal(key, k.keys[kind])
		})
		if fits {
			return salt, true
		}
	}
	return "", false
}

func (k TabKeys) kinds() []int32 {
	var out []int32
	for kind := range k.keys {
		out = append(out, kind)
	}
	slices.Sort(out)
	return out
}

// AddKeys gives a principal the keys of a password beside those that it has, in the same
// types of encryption. version is the number of the keys that the authority has now, 0
// where it is not known: where the key tab has come so far already, the authority is yet
// to be given this password, which will be one more. What is there is not added again.
func AddKeys(content []byte, principal string, password secret.Value, salt string, version int) ([]byte, error) {
	newest, err := NewestKeys(content, principal)
	if err != nil {
		return nil, err
	}
	_, same := newest.MadeOf(password, []string{salt})
	if same && version <= newest.Version {
		return content, nil
	}
	if version <= newest.Version {
		version = newest.Version + 1
	}
	out := bytes.Clone(content)
	for _, kind := range newest.kinds() {
		key, err := derive(kind, password, salt)
		if err != nil {
			return nil, err
		}
		out = append(out, tabRecord(principal, kind, key, version, newest.Time+1)...)
	}
	again, err := NewestKeys(out, principal)
	if _, made := again.MadeOf(password, []string{salt}); err != nil || !made || again.Version != version {
		return nil, errors.New("the key tab would not read back as written")
	}
	return out, nil
}

// tabRecord writes one entry (the format of MIT Kerberos, version 2: big endian, the size
// of the record before it, the version in one byte and again in four).
func tabRecord(principal string, kind int32, key []byte, version int, at uint32) []byte {
	name, realm, _ := cutLast(principal, "@")
	components := strings.Split(name, "/")
	counted := func(b []byte, text []byte) []byte {
		return append(binary.BigEndian.AppendUint16(b, uint16(len(text))), text...)
	}
	var b []byte
	b = binary.BigEndian.AppendUint16(b, uint16(len(components)))
	b = counted(b, []byte(realm))
	for _, c := range components {
		b = counted(b, []byte(c))
	}
	const namePrincipal = 1 // KRB_NT_PRINCIPAL
	b = binary.BigEndian.AppendUint32(b, namePrincipal)
	b = binary.BigEndian.AppendUint32(b, at)
	b = append(b, byte(version))
	b = binary.BigEndian.AppendUint16(b, uint16(kind))
	b = counted(b, key)
	b = binary.BigEndian.AppendUint32(b, uint32(version))
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)
}

func cutLast(text, at string) (before, after string, found bool) {
	i := strings.LastIndex(text, at)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(at):], true
}
