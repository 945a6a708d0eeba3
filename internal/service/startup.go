package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"mossledger.example/moss/internal/store/database"
)

// ErrStart is wrapped by what is refused before anything is opened.
var ErrStart = errors.New("the service does not start")

// headFile is where the ledger's last head stands outside the database.
func (c Config) headFile() string {
	return filepath.Join(filepath.Dir(c.KeyFile), database.HeadFileName)
}

// beforeOpening looks at what lies there before anything is opened or made.
func (s *Service) beforeOpening() error {
	if (s.CertFile == "") != (s.KeyPEM == "") {
		return fmt.Errorf("%w: --tls-cert and --tls-key belong together: give both, or none", ErrStart)
	}
	file := filepath.Join(s.Data, database.FileName)
	if !database.Exists(s.Data) {
		for _, path := range []string{s.KeyFile, s.headFile()} {
			if _, err := os.Stat(path); err == nil {
				return fmt.Errorf("%w: %s is there, but the database %s is missing or empty: put the database back from your backup. To begin anew on purpose, move %s away first", ErrStart, path, file, path)
			}
		}
	}
	for _, path := range []string{s.Data, file, file + "-wal", s.headFile()} {
		if err := s.private(path); err != nil {
			return err
		}
	}
	return nil
}

// private: nobody else may read it, and its owner is who runs the service.
func (s *Service) private(path string) error {
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrStart, err)
	}
	if owner, known := info.Sys().(*syscall.Stat_t); known && int(owner.Uid) != os.Geteuid() {
		return fmt.Errorf("%w: %s belongs to user %d, the service runs as user %d: change its owner, or run the service as that user", ErrStart, path, owner.Uid, os.Geteuid())
	}
	if mode := info.Mode().Perm(); mode&0o022 != 0 {
		return fmt.Errorf("%w: %s can be changed by others (mode %o): run chmod go-rwx on it", ErrStart, path, mode)
	} else if mode&0o077 != 0 {
		s.Log.Warn("others can read this: run chmod go-rwx on it", "path", path, "mode", fmt.Sprintf("%o", mode))
	}
	return nil
}

// openedLedger tells what is odd about the ledger. A broken one does not keep
// the service from starting, because that is how a person looks at it; but
// every act is refused.
func (s *Service) openedLedger(ctx context.Context) error {
	for _, remark := range s.store.LedgerRemarks() {
		s.Log.Warn("ledger", "remark", remark)
	}
	trouble := s.store.LedgerTrouble()
	if trouble != nil && s.AcceptRestored {
		if err := s.store.AcceptRestored(ctx, "service"); err != nil {
			return fmt.Errorf("%w: only a database that is whole and older can be accepted: %w", ErrStart, err)
		}
		s.Log.Warn("an older database was accepted; the ledger says so", "was", trouble)
		return nil
	}
	if trouble != nil {
		s.Log.Error("THE LEDGER DOES NOT HOLD: every act is refused until it does; run 'moss ledger verify'", "error", trouble)
	}
	return nil
}
