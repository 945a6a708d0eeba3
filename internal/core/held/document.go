package held

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// findDocument: a value of several lines that is a file of its own, such as a
// configuration file kept in another document. A step names the layout, the
// key and the part inside: document:yaml;/db/password;0;url.
func findDocument(name, text string) []inside {
	if strings.Count(strings.TrimRight(text, "\n"), "\n") < 1 && !strings.HasSuffix(text, "\n") || len(text) > MaxSize {
		return nil
	}
	var out []inside
	for _, in := range layout.Choose(name, []byte(text), layout.HintNone) {
		values, _, err := layout.Scan([]byte(text), in)
		if err != nil {
			continue
		}
		count := map[string]int{}
		for _, v := range values {
			nth := count[v.Key]
			count[v.Key]++
			// What may hold a secret is told by its parts, and by its name.
			all := secretsIn(v.Name, v.Text, func(secret.Value) bool { return false }, documentDepth)
			if len(all) == 0 {
				all = []found{{part: PartValue, text: v.Text}}
			}
			for _, f := range all {
				names := f.names
				if len(names) == 0 {
					names = besideValue(v, values)
				}
				out = append(out, inside{step: documentStep(Locator{Layout: in, Key: v.Key, Nth: nth, Part: f.part}), text: f.text, names: names, certain: f.certain})
			}
		}
		break
	}
	return out
}

func documentStep(at Locator) string {
	return fmt.Sprintf("document:%s;%s;%d;%s", at.Layout, url.PathEscape(at.Key), at.Nth, url.PathEscape(at.Part))
}

func rewrapDocument(text, step, value string) (string, error) {
	fields := strings.Split(strings.TrimPrefix(step, "document:"), ";")
	if len(fields) != 4 {
		return "", fmt.Errorf("%w: %s", layout.ErrNotThere, step)
	}
	key, errKey := url.PathUnescape(fields[1])
	part, errPart := url.PathUnescape(fields[3])
	nth, errNth := strconv.Atoi(fields[2])
	if errKey != nil || errPart != nil || errNth != nil {
		return "", fmt.Errorf("%w: %s", layout.ErrNotThere, step)
	}
	out, err := Splice([]byte(text), Locator{Layout: layout.Layout(fields[0]), Key: key, Nth: nth, Part: part}, secret.New(value))
	return string(out), err
}
