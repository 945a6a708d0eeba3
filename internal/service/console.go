package service

import (
	"context"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"mossledger.example/moss/internal/service/metrics"
	"mossledger.example/moss/internal/service/web"
)

// registerConsole serves the console, for every path that is none of the API.
func (s *Service) registerConsole() {
	s.http.Get("/api/*", func(c fiber.Ctx) error {
		return problemAnswer(c, 404, "there is no such operation; see /api/v1/openapi.json")
	})
	web.Serve(s.http, func(c fiber.Ctx) error { return problemAnswer(c, 404, "there is no such file") })
}

// registerHealth serves what watchers of the service ask.
func (s *Service) registerHealth() {
	s.http.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	s.http.Get("/readyz", s.watched, func(c fiber.Ctx) error {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if s.base.Err() != nil {
			return problemAnswer(c, 503, "the service is stopping")
		}
		if err := s.store.Ping(ctx); err != nil {
			s.Log.Error("not ready", "error", err)
			return problemAnswer(c, 503, "the database cannot be written: the log says why")
		}
		if err := s.store.LedgerTrouble(); err != nil {
			return problemAnswer(c, 503, "the ledger does not hold: every act is refused")
		}
		return c.SendString("ready\n")
	})
	// What an authority asks while a certificate is ordered (RFC 8555, section 8.3): nothing of
	// it is secret, and there is no answer but while one is awaited.
	s.http.Get("/.well-known/acme-challenge/:token", func(c fiber.Ctx) error {
		answer, found := s.app.Base.Challenges.Answer(c.Params("token"))
		if !found {
			return problemAnswer(c, 404, "there is nothing at this address")
		}
		c.Set("Content-Type", "application/octet-stream")
		c.Set("Cache-Control", "no-store")
		return c.SendString(answer)
	})
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), metrics.New(s.store.Overview))
	s.http.Get("/metrics", s.watched, adaptor.HTTPHandler(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})))
}
