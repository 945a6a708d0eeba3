package larkmoor

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"time"

	"mossledger.example/moss/internal/standin/cloud"
	"mossledger.example/moss/internal/standin/unixhost"
)

// FeedsManager is the identity by which the project of the feeds is managed.
const FeedsManager = "mossmgr@feeds.larkmoor.example"

// startFeeds starts the cloud project of the timetable feeds: one key never ends, and one ends
// tomorrow.
func (e *Estate) startFeeds(config *tls.Config) error {
	var err error
	if e.Feeds, err = cloud.New("larkmoor-feeds", config, nil); err != nil {
		return err
	}
	for _, v := range []cloud.Identity{
		{ID: "114001", Email: FeedsManager, Description: "Manages the identities of the feeds", Manages: true},
		{ID: "114002", Email: "timetable@feeds.larkmoor.example", Description: "Timetables for everybody's screens"},
		{ID: "114003", Email: "kiosktimes@feeds.larkmoor.example", Description: "Timetables for the kiosks"},
		{ID: "114004", Email: "fares-trial@feeds.larkmoor.example", Description: "A trial of last spring"},
	} {
		e.Feeds.AddIdentity(v)
	}
	address, err := e.Feeds.Serve("127.0.0.1:0")
	if err != nil {
		return err
	}
	e.Stores["larkmoor-feeds"] = address
	if e.FeedsKey, _, err = e.feedsKey("114001", time.Time{}); err != nil {
		return err
	}
	_, trial, err := e.feedsKey("114004", time.Time{})
	if err != nil {
		return err
	}
	e.Feeds.Used("114004", trial, time.Now().AddDate(0, 0, -210)) // last spring
	return nil
}

// feedsKey gives an identity a key, and returns its private half.
func (e *Estate) feedsKey(identity string, until time.Time) (private string, id string, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", "", err
	}
	id, err = e.Feeds.AddKey(identity, &key.PublicKey, until)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})), id, err
}

// feedPrograms are the programs that read the feeds, each with a key file.
func (e *Estate) feedPrograms() error {
	for _, p := range []struct {
		host, unit, file, identity, email string
		until                             time.Time
	}{
		{"tide1", "timetable.service", "/etc/timetable/feed-key.json", "114002", "timetable@feeds.larkmoor.example", time.Time{}},
		{"quay1", "kiosktimes.service", "/etc/kiosktimes/feed-key.json", "114003", "kiosktimes@feeds.larkmoor.example", time.Now().Add(26 * time.Hour)},
	} {
		private, id, err := e.feedsKey(p.identity, p.until)
		if err != nil {
			return err
		}
		h := e.Hosts[p.host]
		h.Write(p.file, unixhost.File{Mode: 0o600, Owner: "root", Group: "root", Content: cloud.KeyFile("larkmoor-feeds", id, p.email, private, e.Feeds.URL()+"/token")})
		h.AddUnit(unixhost.Unit{
			Name: p.unit, Description: "Reads the timetable feed", Exec: "/opt/feeds/bin/read --key " + p.file, Enabled: true,
			Program: func(h *unixhost.Host) error {
				f, ok := h.Read(p.file)
				if !ok {
					return errors.New(p.file + ": no such file")
				}
				roots := x509.NewCertPool()
				roots.AppendCertsFromPEM([]byte(e.CA))
				ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
				defer cancel()
				return cloud.SignIn(ctx, roots, f.Content)
			},
		})
	}
	return nil
}
