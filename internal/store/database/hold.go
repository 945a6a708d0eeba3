package database

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// hold locks the folder for this process. The lock is the kernel's: it ends
// with the process, however that ends. What is written into the file is for
// people.
func hold(folder string) (*os.File, error) {
	path := filepath.Join(folder, "moss.lock")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		defer f.Close()
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("lock %s: %w", path, err)
		}
		holder, _ := io.ReadAll(io.LimitReader(f, 200))
		return nil, fmt.Errorf("%w: %s is held by %s; stop that service first, or give another folder with --data", ErrHeld, folder, strings.TrimSpace(string(holder)))
	}
	host, _ := os.Hostname()
	text := fmt.Sprintf("process %d on %s since %s\n", os.Getpid(), host, time.Now().UTC().Format(time.RFC3339))
	if err := errors.Join(f.Truncate(0), writeAt(f, text)); err != nil {
		return nil, errors.Join(fmt.Errorf("lock %s: %w", path, err), f.Close())
	}
	return f, nil
}

func writeAt(f *os.File, text string) error {
	_, err := f.WriteAt([]byte(text), 0)
	return err
}
