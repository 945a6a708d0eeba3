package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// BenchmarkFiles searches a host with 200,000 files beside find and grep with the
// same patterns on it, over the same connection's kind.
func BenchmarkFiles(b *testing.B) {
	h := lab.NewHost(b, "files1", 61)
	for i := range manyFiles {
		folder := fmt.Sprintf("%s/srv/tree/%03d/%02d", h.Root, i/1000, i%20)
		if i%1000 < 20 {
			require.NoError(b, os.MkdirAll(folder, 0o755))
		}
		name, content := fmt.Sprintf("%s/f%d.txt", folder, i), fmt.Sprintf("line one of %d\nharbour and tide, nothing else\n%s\n", i, strings.Repeat("wave after wave, ", i%40))
		switch i % 10 {
		case 0:
			name = strings.TrimSuffix(name, ".txt") + ".conf"
			content = fmt.Sprintf("[main]\nstation = %d\nlevel = info\n", i)
		case 1:
			name = strings.TrimSuffix(name, ".txt") + ".png"
			content = "\x89PNG\r\n\x1a\n" + strings.Repeat("\x00\x01", 400)
		}
		if i%1000 == 7 {
			name = strings.TrimSuffix(name, ".txt") + ".env"
			content = fmt.Sprintf("DB_USER=svc-berth\nDB_PASSWORD=value-%d\n", i)
		}
		require.NoError(b, os.WriteFile(name, []byte(content), 0o644))
	}
	names := []string{"svc-berth", "svc-tidefeed", "svc-gangway"}
	h.Write(b, "/usr/local/bin/pattern", reading.SearchPattern(names)+"\n", 0o644)
	h.Write(b, "/usr/local/bin/plain", "export LC_ALL=C\nfind /srv/tree -type f -print0 | xargs -0 grep -lIiE -f /usr/local/bin/pattern | wc -l\n", 0o755)
	h.Boot(b)
	target := h.Target()
	target.Options = map[string]string{"search": "/srv/tree"}
	key := filepath.Join(b.TempDir(), "key")
	require.NoError(b, os.WriteFile(key, h.Key.Reveal(), 0o600))
	grep := func() time.Duration {
		began := time.Now()
		cmd := exec.Command("ssh", "-q", "-i", key, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "BatchMode=yes", "mossmgr@"+h.Address, "/bin/bash -s")
		cmd.Stdin = strings.NewReader("sudo -n sh /usr/local/bin/plain\n")
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, string(out))
		require.NotEqual(b, "0", strings.TrimSpace(string(out)))
		return time.Since(began)
	}
	visit := func(options map[string]string) (took time.Duration, found int) {
		target.Options = options
		began := time.Now()
		_, err := unixhost.Connector{}.Visit(context.Background(), target, connect.VisitRequest{FingerprintKey: secret.New("key"), Names: names}, func(batch connect.Batch) error {
			for _, d := range batch.Dependents {
				if strings.HasPrefix(d.Path, "/srv/tree/") {
					found++
				}
			}
			return nil
		})
		require.NoError(b, err)
		return time.Since(began), found
	}
	grep() // warm the host's cache for both
	for range b.N {
		var ratios, shares []float64
		for range rounds {
			plain := grep()
			start := h.Processor(b)
			without, _ := visit(map[string]string{"search": "off"})
			before := h.Processor(b)
			with, found := visit(map[string]string{"search": "/srv/tree"})
			// What the search alone took, of time and of the host's processor.
			share := float64(h.Processor(b)-before-(before-start)) / float64(with-without)
			require.Equal(b, manyFiles/1000, found)
			search := with - without
			ratios = append(ratios, float64(search)/float64(plain))
			shares = append(shares, share)
			fmt.Printf("%d files: find and grep %v; a visit with the search %v, without %v; %.2f of a processor on the host\n", manyFiles, plain.Round(time.Millisecond), with.Round(time.Millisecond), without.Round(time.Millisecond), share)
		}
		fmt.Printf("median of %d: the search takes %.2f times find and grep, and %.2f of a processor\n", rounds, median(ratios), median(shares))
		b.ReportMetric(median(ratios), "search/grep")
		b.ReportMetric(median(shares), "processor")
	}
}
