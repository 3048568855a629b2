package httpapi

import (
	"net/http"
	"time"
)

// cookies are the console's two: the session, and the mark of a device from which somebody has signed in before.
type cookies struct{ secure bool }

// sessionName has the __Host- prefix where the browser enforces it (RFC 6265bis, section 4.1.3.2), which needs TLS.
func (k cookies) sessionName() string {
	if k.secure {
		return "__Host-tansu_session"
	}
	return "tansu_session"
}

const deviceName = "tansu_device"

func (k cookies) cookie(name, value, path string, ends time.Time) *http.Cookie {
	return &http.Cookie{Name: name, Value: value, Path: path, Expires: ends, Secure: k.secure, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}

func (k cookies) set(w http.ResponseWriter, token, device string, ends, now time.Time) {
	http.SetCookie(w, k.cookie(k.sessionName(), token, "/", ends))
	http.SetCookie(w, k.cookie(deviceName, device, "/api/sign-in", now.Add(400*24*time.Hour)))
}

func (k cookies) clear(w http.ResponseWriter) {
	http.SetCookie(w, k.cookie(k.sessionName(), "", "/", time.Unix(1, 0)))
}

func (k cookies) session(r *http.Request) string {
	cookie, err := r.Cookie(k.sessionName())
	if err != nil {
		return ""
	}
	return cookie.Value
}

func (k cookies) device(r *http.Request) string {
	cookie, err := r.Cookie(deviceName)
	if err != nil {
		return ""
	}
	return cookie.Value
}
