// Package service is the long-running process: the HTTP API, sign-in, the
// schedule and the embedded console, over the packages of app.
package service

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"strings"
	"time"

	"mossledger.example/moss/internal/store/database"

	"mossledger.example/moss/internal/service/answers"

	"mossledger.example/moss/internal/service/connections"
	"mossledger.example/moss/internal/service/masterkey"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v3"

	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/service/withheld"
	"mossledger.example/moss/internal/store"

	_ "mossledger.example/moss/internal/connect/acme" // the kinds of system: one line each
	_ "mossledger.example/moss/internal/connect/cloud"
	_ "mossledger.example/moss/internal/connect/directory"
	_ "mossledger.example/moss/internal/connect/mariadb"
	_ "mossledger.example/moss/internal/connect/postgres"
	_ "mossledger.example/moss/internal/connect/redis"
	_ "mossledger.example/moss/internal/connect/unixhost"
	_ "mossledger.example/moss/internal/connect/winhost"
)

// Version of the program.
const Version = "0.20.0"

// Config says how to run.
type Config struct {
	Data        string // folder of the database
	KeyFile     string // master key; "" for master.key in Data's sibling folder "key"
	Passphrase  secret.Value
	Listen      string // host:port
	CertFile    string
	KeyPEM      string // file of the TLS key
	SurveyEvery time.Duration
	VerifyEvery time.Duration
	Parallel    int
	// AcceptRestored goes on with an older database that was put back on purpose.
	AcceptRestored bool
	Drill          int // see assembly.Config
	Kill           func()
	Log            *slog.Logger
	Ready          func(url, setupCode string) // called when it listens; setupCode only at first start
}

// Service is a running service.
type Service struct {
	Config
	store  *store.Store
	app    *assembly.Application
	http   *fiber.App
	api    huma.API
	base   context.Context
	secure bool
}

// ErrUnsafeListen is returned when plain HTTP would leave this machine.
var ErrUnsafeListen = errors.New("refusing to serve without TLS on an address that is not loopback")

// Run serves until the context ends.
func Run(ctx context.Context, config Config) error {
	if config.KeyFile == "" {
		config.KeyFile = filepath.Join(config.Data, "master.key")
	}
	s := &Service{Config: config, secure: config.CertFile != ""}
	if err := s.checkListen(); err != nil {
		return err
	}
	assembly.TuneMemory()
	if err := s.beforeOpening(); err != nil {
		return err
	}
	var err error
	if s.store, err = store.Open(ctx, config.Data, time.Now); err != nil {
		return err
	}
	defer func() {
		if err := s.store.Close(); err != nil {
			s.Log.Error("the database did not close", "error", err)
		}
	}()
	untouched, err := s.store.Untouched(ctx)
	if err != nil {
		return err
	}
	master, err := masterkey.Load(config.KeyFile, config.Passphrase, untouched)
	if err != nil {
		return err
	}
	s.app, err = assembly.New(ctx, assembly.Config{Store: s.store, Witness: database.HeadFile(config.headFile()), Master: master, Random: rand.Reader, Now: time.Now, Log: config.Log, Parallel: config.Parallel, SurveyEvery: config.SurveyEvery, VerifyEvery: config.VerifyEvery, Drill: config.Drill, Kill: config.Kill})
	if err != nil {
		return err
	}
	if err := s.openedLedger(ctx); err != nil {
		return err
	}
	code, err := s.app.People.SetupCode(ctx)
	if err != nil {
		return err
	}
	base, cancel := context.WithCancel(context.Background())
	defer cancel()
	s.base = base
	s.build()
	listener, err := net.Listen("tcp", config.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", config.Listen, err)
	}
	address := listener.Addr().String()
	listener = connections.NewGuarded(listener, connections.RoomForConnections(), connections.MostFromOne, s.Log)
	scheme := "http"
	if s.secure {
		cert, err := tls.LoadX509KeyPair(config.CertFile, config.KeyPEM)
		if err != nil {
			_ = listener.Close()
			return fmt.Errorf("TLS certificate: %w", err)
		}
		listener = tls.NewListener(connections.Forgetting{Listener: listener}, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12})
		scheme = "https"
	}
	if err := s.app.Start(ctx); err != nil {
		_ = listener.Close()
		return err
	}
	listener = connections.Forgetting{Listener: listener}
	ended := make(chan error, 1)
	go func() { ended <- s.http.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true}) }()
	s.Log.Info("serving", "address", address, "version", Version)
	if config.Ready != nil {
		config.Ready(scheme+"://"+address, code)
	}
	select {
	case <-ctx.Done():
	case err = <-ended:
	}
	// Event streams end first, then requests, then the work.
	cancel()
	stop, cancelStop := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancelStop()
	s.app.Stop()
	if stopErr := s.http.ShutdownWithContext(stop); stopErr != nil {
		s.Log.Warn("some requests did not end in time", "error", stopErr)
	}
	s.Log.Info("stopped")
	return err
}

func (s *Service) checkListen() error {
	host, _, err := net.SplitHostPort(s.Listen)
	if err != nil {
		return fmt.Errorf("listen address %q: write host:port", s.Listen)
	}
	ip := net.ParseIP(host)
	if host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	if s.CertFile == "" || s.KeyPEM == "" {
		return fmt.Errorf("%w: %s needs --tls-cert and --tls-key, or listen on 127.0.0.1", ErrUnsafeListen, s.Listen)
	}
	return nil
}

// build makes the application: middleware, API, console.
func (s *Service) build() {
	answers.HideValues()
	s.http = fiber.New(fiber.Config{
		AppName: "moss", Immutable: true, BodyLimit: publicBody, ReadTimeout: readTime, IdleTimeout: 2 * time.Minute,
		ErrorHandler: s.fiberError,
	})
	s.http.Server().HeaderReceived = s.limits
	s.http.Use(s.guard)
	s.registerHealth()
	s.api = humafiber.New(s.http, apiConfig())
	s.api.UseMiddleware(s.authenticate, withheld.Of(s.api).Withhold)
	s.registerAll()
	s.registerConsole()
}

func apiConfig() huma.Config {
	config := huma.DefaultConfig("Moss Ledger", Version)
	config.OpenAPIPath = "/api/v1/openapi"
	config.DocsPath = ""
	config.SchemasPath = ""
	config.CreateHooks = nil // no $schema links in answers
	config.Info.Description = "Service accounts: what there is, what depends on it, and changing it without breaking anything. Errors are problem details (RFC 9457). Lists take filter, sort, limit and cursor. Requests that start work take an Idempotency-Key."
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that the description was read from"}}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "An API token"},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "The console's session; changing requests also send X-Moss-Console: 1"},
	}
	return config
}

// OpenAPI returns the API's description without running a service.
func OpenAPI() ([]byte, error) {
	s := &Service{Config: Config{Log: slog.New(slog.DiscardHandler)}}
	s.build()
	return s.api.OpenAPI().MarshalJSON()
}

// guard runs around every request: security headers, panics, the log.
func (s *Service) guard(c fiber.Ctx) (err error) {
	start := time.Now()
	defer func() {
		if r := recover(); r != nil {
			s.Log.Error("a request failed badly", "method", c.Method(), "path", c.Path(), "panic", fmt.Sprint(r))
			err = problemAnswer(c, 500, "something went wrong inside the service; it has been logged")
		}
		if !strings.HasPrefix(c.Path(), "/assets/") {
			s.Log.Debug("request", "method", c.Method(), "path", c.Path(), "status", c.Response().StatusCode(), "took", time.Since(start).Round(time.Microsecond))
		}
	}()
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store")
	}
	if s.secure {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	return c.Next()
}

// Answers about requests that are no requests say nothing of what was sent:
// that may be a cookie or a password.
var malformed = map[int]string{
	400: "the request is malformed", 404: "there is nothing at this address", 405: "this method is not for this address", 408: "the request came too slowly",
	411: "the request does not say how long it is", 413: "the request is too large", 414: "the address is too long", 415: "the body is of another type than expected: send application/json",
	426: "this protocol is not spoken here", 431: "the headers are too large", 501: "this method is not known",
}

func (s *Service) fiberError(c fiber.Ctx, err error) error {
	var known *fiber.Error
	if errors.As(err, &known) && known.Code < 500 || known != nil && malformed[known.Code] != "" {
		words := malformed[known.Code]
		if words == "" {
			words = "the request cannot be answered"
		}
		return problemAnswer(c, known.Code, words)
	}
	return problemAnswer(c, 500, s.unexplained(err))
}

func problemAnswer(c fiber.Ctx, code int, detail string) error {
	return c.Status(code).JSON(huma.ErrorModel{Status: code, Title: titleOf(code), Detail: detail}, "application/problem+json")
}
