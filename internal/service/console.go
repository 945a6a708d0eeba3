package service

import (
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
	"mime"
	"path"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"mossledger.example/moss/internal/service/metrics"
)

//go:embed all:web
var web embed.FS

// registerConsole serves the console: files under their names, and the first
// page for every other path, because the console routes by itself.
func (s *Service) registerConsole() {
	s.http.Get("/api/*", func(c fiber.Ctx) error {
		return problemAnswer(c, 404, "there is no such operation; see /api/v1/openapi.json")
	})
	// Scripts travel compressed; answers of the API do not, since secrets of the reader
	// stand in some of them beside texts of others.
	s.http.Use("/assets", compress.New())
	s.http.Get("/*", func(c fiber.Ctx) error {
		name := path.Clean("/" + c.Params("*"))[1:]
		content, err := fs.ReadFile(web, path.Join("web/dist", name))
		if name == "" || err != nil {
			if strings.HasPrefix(name, "assets/") {
				return problemAnswer(c, 404, "there is no such file")
			}
			name = "index.html"
			if content, err = fs.ReadFile(web, "web/dist/index.html"); err != nil {
				content, err = fs.ReadFile(web, "web/missing.html")
			}
		}
		if err != nil {
			return err
		}
		// Embedded files have no time: entity tags tell versions apart.
		sum := sha256.Sum256(content)
		tag := `"` + hex.EncodeToString(sum[:8]) + `"`
		c.Set("ETag", tag)
		c.Set("Cache-Control", "no-cache")
		if strings.HasPrefix(name, "assets/") {
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		if c.Get("If-None-Match") == tag {
			return c.Status(304).Send(nil)
		}
		c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		return c.Status(200).Send(content)
	})
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
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), metrics.New(s.store.Overview))
	s.http.Get("/metrics", s.watched, adaptor.HTTPHandler(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})))
}
