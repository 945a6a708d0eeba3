package shown

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
)

// begin asks for TLS in the words of a protocol that begins without it; what it reads is no
// byte of the handshake.
type begin func(conn io.ReadWriter) error

// begins are the protocols whose ports are asked for TLS in words, by the numbers at which the
// trade has them. Of those where the server speaks first it is heard before anything is said:
// what greets otherwise is left alone. MySQL's is not among them: it counts handshakes that
// nobody ends with a password, and shuts their host out.
var begins = map[int]begin{
	21:  spoken("220", "AUTH TLS\r\n", "234"),                                // RFC 4217, section 4
	25:  spoken("220", "EHLO [127.0.0.1]\r\n", "250", "STARTTLS\r\n", "220"), // RFC 3207, section 4
	587: spoken("220", "EHLO [127.0.0.1]\r\n", "250", "STARTTLS\r\n", "220"),
	110: spoken("+OK", "STLS\r\n", "+OK"),           // RFC 2595, section 4
	143: spoken("* OK", "m1 STARTTLS\r\n", "m1 OK"), // RFC 9051, section 6.2.1
	389: startTLS, 3268: startTLS,
	5432: requestSSL,
}

// beginOf is how the port of an address begins; nil for TLS at once.
func beginOf(address string) begin {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil
	}
	return begins[number]
}

// errPlain: it does not offer TLS, or is not what its port says.
var errPlain = errors.New("it offers no TLS")

// mostGreeting bounds what is heard of a server before the handshake.
const mostGreeting = 8 << 10

// spoken is a protocol of lines: what is heard, said, heard, and so on.
func spoken(lines ...string) begin {
	return func(conn io.ReadWriter) error {
		left := mostGreeting
		for i, text := range lines {
			if i%2 == 1 {
				if _, err := io.WriteString(conn, text); err != nil {
					return err
				}
				continue
			}
			if err := hear(conn, text, &left); err != nil {
				return err
			}
		}
		return nil
	}
}

// hear reads lines up to the one that ends an answer: a code with a space after it, where others
// have a hyphen (RFC 5321, section 4.2.1), or a line that begins so.
func hear(conn io.Reader, want string, left *int) error {
	var line []byte
	one := make([]byte, 1) // nothing of the handshake may be read
	for *left > 0 {
		if _, err := io.ReadFull(conn, one); err != nil {
			return err
		}
		*left--
		if line = append(line, one[0]); one[0] != '\n' {
			continue
		}
		switch {
		case bytes.HasPrefix(line, []byte(want+"-")) || strings.HasPrefix(want, "m1 ") && bytes.HasPrefix(line, []byte("* ")):
		case bytes.HasPrefix(line, []byte(want+" ")) || bytes.HasPrefix(line, []byte(want+"\r")):
			return nil
		case len(line) > 3 && line[3] == '-' && line[0] >= '0' && line[0] <= '9': // more of another code follows
		default:
			return errPlain
		}
		line = line[:0]
	}
	return errPlain
}

// startTLS is the extended operation of directories (RFC 4511, section 4.14).
func startTLS(conn io.ReadWriter) error {
	message := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	message.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, int64(1), ""))
	request := ber.Encode(ber.ClassApplication, ber.TypeConstructed, 23, nil, "")
	request.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, "1.3.6.1.4.1.1466.20037", ""))
	message.AppendChild(request)
	if _, err := conn.Write(message.Bytes()); err != nil {
		return err
	}
	answer, err := ber.ReadPacket(io.LimitReader(conn, mostGreeting))
	if err != nil {
		return fmt.Errorf("%w: %w", errPlain, err)
	}
	if len(answer.Children) < 2 || answer.Children[1].Tag != 24 || len(answer.Children[1].Children) == 0 {
		return errPlain
	}
	if code, whole := answer.Children[1].Children[0].Value.(int64); !whole || code != 0 {
		return errPlain
	}
	return nil
}

// requestSSL is PostgreSQL's SSLRequest.
func requestSSL(conn io.ReadWriter) error {
	if _, err := conn.Write([]byte{0, 0, 0, 8, 4, 210, 22, 47}); err != nil {
		return err
	}
	answer := make([]byte, 1)
	if _, err := io.ReadFull(conn, answer); err != nil {
		return err
	}
	if answer[0] != 'S' {
		return errPlain
	}
	return nil
}
