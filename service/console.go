package service

import (
	"bytes"
	"crypto/rand"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"

	"koinos/web"
)

// console serves the console's files. Their names contain a hash of their content, so browsers may cache them; the page
// itself is always fetched.
func (s *Service) console(r *gin.Engine) {
	files := web.Files()
	serve := func(c *gin.Context, name string) bool {
		b, err := fs.ReadFile(files, name)
		if err != nil {
			return false
		}
		h := c.Writer.Header()
		h.Set("Cache-Control", "no-cache")
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		nonce := rand.Text() // styles that the console makes bear it; nothing else that is written into the page is taken
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'nonce-"+nonce+
			"'; img-src 'self' data: blob:; "+
			"font-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		if name == "index.html" {
			b = bytes.Replace(b, []byte(`nonce="of-this-answer"`), []byte(`nonce="`+nonce+`"`), 1)
		}
		kinds := map[string]string{".html": "text/html; charset=utf-8", ".js": "text/javascript", ".css": "text/css",
			".svg":   "image/svg+xml",
			".woff2": "font/woff2", ".woff": "font/woff", ".ttf": "font/ttf"}
		kind := kinds[path.Ext(name)]
		if kind == "" {
			kind = "application/octet-stream"
		}
		c.Data(http.StatusOK, kind, b)
		return true
	}
	r.GET("/assets/*file", func(c *gin.Context) {
		if !serve(c, path.Join("assets", path.Clean("/"+c.Param("file")))) {
			s.noRoute(c)
		}
	})
	page := func(c *gin.Context) {
		if !serve(c, "index.html") {
			c.String(http.StatusOK,
				"Koinos is running, but its console was not built into this program: make build does that. The API "+
					"is under /api/v1.\n")
		}
	}
	r.GET("/favicon.svg", func(c *gin.Context) { serve(c, "favicon.svg") })
	// The console's own addresses: each opens the page, which shows the right view.
	for _, p := range []string{"/", "/today", "/documents", "/documents/*rest", "/loads", "/loads/*rest", "/orders",
		"/orders/*rest", "/held", "/exchange", "/exchange/*rest", "/systems", "/systems/*rest", "/syncs",
		"/syncs/*rest", "/mappings",
		"/mappings/*rest", "/lists", "/lists/*rest", "/docs", "/docs/*rest"} {
		r.GET(p, page)
	}
}

func (s *Service) noRoute(c *gin.Context) {
	abort(c, problem("not_found", "Nothing is at "+shortened(c.Request.URL.Path)+
		". The API is described at /api/v1/openapi.json."))
}
