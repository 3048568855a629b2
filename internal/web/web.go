// Package web serves the console that the build has put beside it; console/ at the root of the repository is its source.
package web

import (
	"bytes"
	"embed"
	"errors"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// policy lets the page load and call nothing but its own origin, and be framed by nobody.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; " +
	"connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// pages are the addresses of the console's own pages, as path.Match has them: each is the page itself, which routes in the browser. The
// routes of App.tsx are these.
var pages = []string{"", "drawers/*", "drawers/*/*", "drawers/*/*/exposure", "due", "search", "access", "access/*", "trail", "trail/*",
	"refusals", "operation", "account", "receipts/*"}

// isPage reports whether the console has a page at an address.
func isPage(name string) bool {
	return slices.ContainsFunc(pages, func(pattern string) bool {
		fits, _ := path.Match(pattern, name)
		return fits
	})
}

// Handler serves the console. At any other address there is nothing, and only a browser is told so by a page: whoever takes an answer for
// a value must not be handed one.
func Handler() (http.Handler, error) {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		return nil, err
	}
	page, err := fs.ReadFile(files, "index.html")
	if errors.Is(err, fs.ErrNotExist) {
		page = []byte("<!doctype html><title>Tansu</title><p>This program was built without the console: run make build.")
	} else if err != nil {
		return nil, err
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		header := w.Header()
		header.Set("Content-Security-Policy", policy)
		header.Set("X-Content-Type-Options", "nosniff")
		header.Set("Referrer-Policy", "no-referrer")
		header.Set("Cross-Origin-Opener-Policy", "same-origin")
		header.Set("Cross-Origin-Resource-Policy", "same-origin")
		header.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		name := strings.TrimPrefix(path.Clean("/"+r.URL.Path), "/")
		if name != "index.html" && serveFile(w, r, files, name) {
			return
		}
		header.Set("Cache-Control", "no-store")
		there := isPage(name)
		if !there && !strings.Contains(r.Header.Get("Accept"), "text/html") {
			http.Error(w, "There is nothing at this address.", http.StatusNotFound)
			return
		}
		header.Set("Content-Type", "text/html; charset=utf-8")
		if !there {
			w.WriteHeader(http.StatusNotFound) // the page says so in its own words
		}
		_, _ = w.Write(page)
	}), nil
}

// encodings are what the build has compressed each text to, the smaller first: the ending of its file, and its name (RFC 9110, 8.4.1).
var encodings = [][2]string{{".br", "br"}, {".gz", "gzip"}}

// serveFile serves a file of the build, compressed if the browser takes that; false if there is none.
func serveFile(w http.ResponseWriter, r *http.Request, files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	if err != nil || info.IsDir() || slices.ContainsFunc(encodings, func(e [2]string) bool { return strings.HasSuffix(name, e[0]) }) {
		return false
	}
	header := w.Header()
	if strings.HasPrefix(name, "assets/") { // their names change with their content
		header.Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	content, err := fs.ReadFile(files, name)
	if err != nil {
		return false
	}
	header.Add("Vary", "Accept-Encoding")
	accepted := strings.Split(strings.ReplaceAll(r.Header.Get("Accept-Encoding"), " ", ""), ",")
	for _, e := range encodings {
		if small, err := fs.ReadFile(files, name+e[0]); err == nil && slices.Contains(accepted, e[1]) {
			header.Set("Content-Encoding", e[1])
			content = small
			break
		}
	}
	http.ServeContent(w, r, name, info.ModTime(), bytes.NewReader(content))
	return true
}
