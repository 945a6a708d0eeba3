package e2e

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// inMemory counts what stands in the memory of a process.
func inMemory(t *testing.T, pid int, words ...string) []int {
	t.Helper()
	maps, err := os.Open(fmt.Sprintf("/proc/%d/maps", pid))
	require.NoError(t, err)
	defer maps.Close()
	memory, err := os.Open(fmt.Sprintf("/proc/%d/mem", pid))
	require.NoError(t, err, "memory that is not dumpable is read by root only, as a debugger would")
	defer memory.Close()
	out := make([]int, len(words))
	read := 0
	for lines := bufio.NewScanner(maps); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		from, to, _ := strings.Cut(fields[0], "-")
		begin, err := strconv.ParseUint(from, 16, 64)
		require.NoError(t, err)
		end, err := strconv.ParseUint(to, 16, 64)
		require.NoError(t, err)
		if !strings.HasPrefix(fields[1], "rw") {
			continue
		}
		part := make([]byte, end-begin)
		if _, err := memory.ReadAt(part, int64(begin)); err != nil {
			continue // gone meanwhile, or a part of the kernel's
		}
		read += len(part)
		for i, word := range words {
			out[i] += bytes.Count(part, []byte(word))
		}
	}
	require.Greater(t, read, 10<<20, "the heap was read")
	return out
}

// A password that somebody signed in with does not stay in memory: neither as
// it arrived nor decoded. What stays is what the last hashes keep of their
// input, in an object of their own: after 120 sign-ins a tenth of them at most.
func TestPasswordsDoNotLinger(t *testing.T) {
	u := newService(t)
	password, wrong := "lantern/"+rand.Text(), "lantern/"+rand.Text()
	status, answer := u.api("POST", "/api/v1/users", u.token(), fmt.Sprintf(`{"name":"odile","password":%q,"roles":["viewer"]}`, password))
	require.Equal(t, 200, status, answer)
	for i := range 120 {
		status, answer := u.api("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":"odile","password":%q}`, password))
		require.Equal(t, 200, status, answer)
		if i%20 == 19 {
			status, _ := u.api("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":"odile","password":%q}`, wrong))
			require.Equal(t, 401, status)
		}
	}
	found := inMemory(t, u.PID(), `"password":"`+password, `"password":"`+wrong, password, wrong, "odile")
	assert.Zero(t, found[0], "as it arrived")
	assert.Zero(t, found[1], "as it arrived")
	assert.LessOrEqual(t, found[2], 12, "the right one")
	assert.LessOrEqual(t, found[3], 4, "a wrong one")
	assert.NotZero(t, found[4], "what is looked for would be found")
}
