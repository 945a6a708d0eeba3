package redis

import (
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/redis/go-redis/v9"

	"mossledger.example/moss/internal/connect"
)

// tracing tells commands to whoever wants to see them.
type tracing struct{ to connect.Trace }

// DialHook implements redis.Hook.
func (tracing) DialHook(next redis.DialHook) redis.DialHook {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		return next(ctx, network, address)
	}
}

// ProcessHook implements redis.Hook.
func (t tracing) ProcessHook(next redis.ProcessHook) redis.ProcessHook {
	return func(ctx context.Context, command redis.Cmder) error {
		begun := time.Now()
		err := next(ctx, command)
		t.told(command, begun, err)
		return err
	}
}

// ProcessPipelineHook implements redis.Hook.
func (t tracing) ProcessPipelineHook(next redis.ProcessPipelineHook) redis.ProcessPipelineHook {
	return func(ctx context.Context, commands []redis.Cmder) error {
		begun := time.Now()
		err := next(ctx, commands)
		for _, c := range commands {
			t.told(c, begun, c.Err())
		}
		return err
	}
}

func (t tracing) told(command redis.Cmder, begun time.Time, err error) {
	if !t.to.On() {
		return
	}
	if err == redis.Nil { //nolint:errorlint // it is compared as the library does
		err = nil
	}
	t.to.Tell(connect.Ended("redis", spoken(command.Args()), begun, err, func(err error) bool { return strings.HasPrefix(err.Error(), "NOPERM") }))
}

// spoken writes a command without what is secret in it: passwords and their digests.
func spoken(args []any) string {
	words := make([]string, len(args))
	for i, a := range args {
		words[i] = fmt.Sprint(a)
		switch {
		case i > 0 && strings.EqualFold(words[0], "auth"), i > 0 && strings.ContainsRune("><#!", rune(firstOf(words[i]))):
			words[i] = words[i][:min(1, len(words[i]))] + connect.Left
			if strings.EqualFold(words[0], "auth") {
				words[i] = connect.Left
			}
		case strings.ContainsAny(words[i], " \t\r\n"):
			words[i] = fmt.Sprintf("%q", words[i])
		}
	}
	return strings.Join(words, " ")
}

func firstOf(word string) byte {
	if word == "" {
		return ' '
	}
	return word[0]
}
