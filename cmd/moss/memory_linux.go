package main

import (
	"errors"

	"golang.org/x/sys/unix"
)

// guardMemory keeps the memory of the service, in which secrets are open while
// they are used, out of core dumps and away from other processes of the user.
func guardMemory() error {
	return errors.Join(
		unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}),
		unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0),
	)
}
