package bench

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/shown"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

const (
	tlsPorts = 1000
	// answersAfter is how long each server thinks before it answers, as one in another site does.
	answersAfter = 50 * time.Millisecond
)

// BenchmarkCertificates visits a host with 1,000 ports behind which certificates are shown,
// beside the same visit without asking them and the time that is spent waiting for their
// answers, so many at once as are asked.
func BenchmarkCertificates(b *testing.B) {
	h := lab.NewHost(b, "tls1", 61)
	h.Boot(b)
	close := manyPorts(b, h)
	defer close()
	target := h.Target()
	visit := func(option string) (took time.Duration, found int) {
		target.Options = map[string]string{"search": "off", reading.OptionCertificates: option}
		began := time.Now()
		_, err := unixhost.Connector{}.Visit(context.Background(), target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(batch connect.Batch) error {
			for _, d := range batch.Dependents {
				if d.Kind == estate.DependentShown && d.Key.Subject == "CN=many" {
					found++
				}
			}
			return nil
		})
		require.NoError(b, err)
		return time.Since(began), found
	}
	waiting := answersAfter * tlsPorts / shown.AtOnce
	for range b.N {
		var ratios []float64
		for range rounds {
			without, _ := visit("off")
			with, found := visit("on")
			require.Equal(b, tlsPorts, found)
			ratios = append(ratios, float64(with)/float64(without+waiting))
			fmt.Printf("%d TLS ports that answer after %v: a visit %v; without asking them %v, and %v of waiting with %d at once: %.2f times that\n", tlsPorts, answersAfter, with.Round(time.Millisecond), without.Round(time.Millisecond), waiting.Round(time.Millisecond), shown.AtOnce, ratios[len(ratios)-1])
		}
		fmt.Printf("median of %d: %.2f times the waiting floor\n", rounds, median(ratios))
		b.ReportMetric(median(ratios), "floor")
	}
}

// manyPorts listens in the host's network.
func manyPorts(b *testing.B, h *lab.Host) (end func()) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(b, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "many"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0)}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(b, err)
	config := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{{Certificate: [][]byte{raw}, PrivateKey: key}}, GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		return nil, connect.Wait(hello.Context(), answersAfter)
	}}
	var all sync.WaitGroup
	addresses := make([]string, tlsPorts)
	for i := range addresses {
		addresses[i] = net.JoinHostPort(h.Address, "0")
	}
	open := h.Listen(b, addresses...)
	for _, plain := range open {
		listener := tls.NewListener(plain, config)
		all.Add(1)
		go func() {
			defer all.Done()
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				all.Add(1)
				go func() {
					defer all.Done()
					defer conn.Close()
					_, _ = io.Copy(io.Discard, conn)
				}()
			}
		}()
	}
	return func() {
		for _, l := range open {
			_ = l.Close()
		}
		all.Wait()
	}
}
