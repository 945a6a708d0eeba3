package held

import (
	"bytes"
	"fmt"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// A certificate stands in a file by itself, with those that signed it, or beside its key. The
// locator's number says which of the file it is.

// findChain finds a certificate, with those after it that signed it.
func findChain(content []byte, place Locator) (Span, error) {
	link, err := chainAt(content, place)
	if err != nil {
		return Span{}, err
	}
	return Span{Locator: place, Start: link.Start, End: link.End, Line: 1 + bytes.Count(content[:link.Start], []byte("\n")), Value: secret.New(link.Text()), Certain: true}, nil
}

func chainAt(content []byte, place Locator) (keys.Link, error) {
	if err := readable(content); err != nil {
		return keys.Link{}, err
	}
	links := keys.Links(content)
	if place.Nth < 0 || place.Nth >= len(links) {
		return keys.Link{}, fmt.Errorf("%w: it has %d certificates, and number %d is meant", layout.ErrNotThere, len(links), place.Nth+1)
	}
	return links[place.Nth], nil
}

// spliceChain replaces a certificate with those after it that signed it. Where it stands alone
// it does so afterwards: what signed it is elsewhere then, and stays.
func spliceChain(content []byte, place Locator, next secret.Value) ([]byte, error) {
	link, err := chainAt(content, place)
	if err != nil {
		return nil, err
	}
	if keys.SameCertificate(secret.New(link.Text()), next) {
		return content, nil
	}
	list, err := keys.ReadChain(next.RevealString())
	if err != nil {
		return nil, fmt.Errorf("%w: %w", layout.ErrCannotCarry, err)
	}
	if len(link.List) == 1 && !link.Whole() {
		list = list[:1]
	}
	text := bytes.TrimRight([]byte(keys.Joined(list)), "\n")
	if bytes.Contains(content[link.Start:link.End], []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	}
	out := append(append(append(make([]byte, 0, len(content)+len(text)), content[:link.Start]...), text...), content[link.End:]...)
	again, err := chainAt(out, place)
	if err != nil || !keys.SameCertificate(secret.New(again.Text()), next) || again.Start != link.Start || !bytes.Equal(out[again.End:], content[link.End:]) {
		return nil, fmt.Errorf("%w: %s would not read back as written", layout.ErrCannotCarry, place)
	}
	return out, nil
}
