package roster

import (
	"fmt"
	"strconv"
	"strings"
)

// Address is where a system may be reached. A Port that is not given is 0.
type Address struct {
	Host string
	Port int
}

// String writes it as Addresses reads it.
func (a Address) String() string {
	switch {
	case a.Port == 0:
		return a.Host
	case strings.Contains(a.Host, ":"):
		return fmt.Sprintf("[%s]:%d", a.Host, a.Port)
	}
	return fmt.Sprintf("%s:%d", a.Host, a.Port)
}

// Addresses reads a list separated by semicolons: HOST, HOST:PORT, [ADDRESS]
// or [ADDRESS]:PORT, where the brackets are those of RFC 3986, section 3.2.2.
func Addresses(text string) (out []Address, err error) {
	for _, part := range strings.Split(text, ";") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		bad := fmt.Errorf("%q is none of HOST, HOST:PORT and [ADDRESS]:PORT", part)
		a := Address{Host: part}
		port, given := "", false
		if inner, bracketed := strings.CutPrefix(part, "["); bracketed {
			var rest string
			a.Host, rest, bracketed = strings.Cut(inner, "]")
			if port, given = strings.CutPrefix(rest, ":"); !isIP(a.Host) || !bracketed || rest != "" && !given {
				return nil, bad
			}
		} else if !isIP(part) {
			a.Host, port, given = strings.Cut(part, ":")
		}
		if given {
			if a.Port, err = strconv.Atoi(port); err != nil || a.Port < 1 || a.Port > 65535 {
				return nil, fmt.Errorf("%q: the port is not a number from 1 to 65535", part)
			}
		}
		if err := CheckName(a.Host); a.Host == "" || err != nil {
			return nil, bad
		}
		out = append(out, a)
	}
	return out, nil
}
