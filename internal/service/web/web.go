// Package web holds the console as it was built, and serves it: files under their names,
// and the first page for every other path, because the console routes by itself.
package web

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
	"mime"
	"path"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
)

// Files are the built console in dist, and what is shown in its place before that.
//
//go:embed all:*
var Files embed.FS

// Serve serves the console. missing answers for a file that is not there.
func Serve(app *fiber.App, missing func(fiber.Ctx) error) {
	// Scripts travel compressed; answers of the API do not, since secrets of the reader
	// stand in some of them beside texts of others.
	app.Use("/assets", compress.New())
	app.Get("/*", func(c fiber.Ctx) error {
		name := path.Clean("/" + c.Params("*"))[1:]
		content, err := fs.ReadFile(Files, path.Join("dist", name))
		if name == "" || err != nil {
			if strings.HasPrefix(name, "assets/") {
				return missing(c)
			}
			name = "index.html"
			if content, err = fs.ReadFile(Files, "dist/index.html"); err != nil {
				content, err = fs.ReadFile(Files, "missing.html")
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
