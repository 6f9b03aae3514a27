package api

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gofiber/fiber/v2"
)

// console serves the console's files; every other address is a view of the
// console and gets its page.
func (a *API) console(c *fiber.Ctx) error {
	name := strings.TrimPrefix(path.Clean(c.Path()), "/")
	text, err := fs.ReadFile(a.Console, name)
	if err != nil {
		if strings.HasPrefix(name, "assets/") {
			return fiber.NewError(http.StatusNotFound, "the console has no file "+name)
		}
		name = "index.html"
		if text, err = fs.ReadFile(a.Console, name); err != nil {
			return err
		}
	}
	c.Set(fiber.HeaderContentType, mime.TypeByExtension(path.Ext(name)))
	if strings.HasPrefix(name, "assets/") { // their names hold a hash of their content
		c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable")
	} else {
		c.Set(fiber.HeaderCacheControl, "no-cache")
	}
	return c.Send(text)
}
