package layout

import (
	"bytes"
	"fmt"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// scanPEM gives the private keys of a file. They have no names: the locator's
// number tells them apart.
func scanPEM(content []byte) ([]Value, []Problem, error) {
	var out []Value
	for _, b := range keys.Blocks(content) {
		out = append(out, Value{Start: b.Start, End: b.End, Line: 1 + bytes.Count(content[:b.Start], []byte("\n")), Text: b.Private.RevealString()})
	}
	if len(out) == 0 {
		return nil, nil, fmt.Errorf("no private key in PEM")
	}
	return out, nil, nil
}

// encodePEM writes a private key down in the way of the one that stood there,
// with its line ends.
func encodePEM(text string, old []byte, _ Value, _ []byte) (string, error) {
	blocks := keys.Blocks(old)
	if len(blocks) != 1 {
		return "", ErrNotThere
	}
	written, err := keys.Recode(keys.Alone(secret.New(text)), blocks[0].Type)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrCannotCarry, err)
	}
	out := bytes.TrimRight(written.Reveal(), "\n")
	if bytes.Contains(old, []byte("\r\n")) {
		out = bytes.ReplaceAll(out, []byte("\n"), []byte("\r\n"))
	}
	return string(out), nil
}

// Names of the values of a key file.
const (
	KeyFilePrivate = "private_key"
	KeyFileNumber  = "private_key_id"
)

// encodeKeyFile writes a private key down in the way of the one that stood there, as a text of
// the document; other values as they are.
func encodeKeyFile(text string, _ []byte, at Value, _ []byte) (string, error) {
	if at.Name != KeyFilePrivate {
		return encodeJSON(text)
	}
	blocks := keys.Blocks([]byte(at.Text))
	if len(blocks) != 1 {
		return "", ErrNotThere
	}
	written, err := keys.Recode(secret.New(text), blocks[0].Type)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrCannotCarry, err)
	}
	out := string(bytes.TrimRight(written.Reveal(), "\n"))
	if bytes.Contains([]byte(at.Text), []byte("\r\n")) {
		out = string(bytes.ReplaceAll([]byte(out), []byte("\n"), []byte("\r\n")))
	}
	return encodeJSON(at.Text[:blocks[0].Start] + out + at.Text[blocks[0].End:]) // what stands around it stays
}
