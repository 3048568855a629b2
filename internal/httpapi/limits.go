package httpapi

import (
	"fmt"
	"math"

	"github.com/labstack/echo/v5"

	"tansu/internal/core/throttle"
)

// limits are the routes with rate limits: signing in, and questions whose answers would let a value be guessed.
var limits = []string{
	"POST /api/sign-in", "POST /api/enrol", "POST /api/enrol-host", "POST /api/unlock", "POST /api/oauth/token",
	"POST /api/oauth/introspect", "POST /api/oauth/revoke", "POST /api/me/password", "POST /api/unlock-methods",
	"POST /api/unlock-methods/:method/end",
	"POST /api/root-key/rotate", "POST /api/requests", "POST /api/values/:drawer/:item/compare",
	"POST /api/drawers/:drawer/items/:item/exposure",
	"GET " + calendarPath + ":address",
}

// tellLeft reports in an answer how many attempts are left (draft-ietf-httpapi-ratelimit-headers): of the limit that runs out first,
// among those that only this caller uses up. Successful attempts are not counted.
func tellLeft(c *call) {
	response, err := echo.UnwrapResponse(c.Response())
	if err != nil {
		return
	}
	left := &throttle.Left{}
	c.origin.Left = left
	response.Before(func() {
		if left.Most == 0 { // nothing was counted
			return
		}
		header := response.Header()
		header.Set("RateLimit-Policy", fmt.Sprintf(`"attempts";q=%d;w=%d`, left.Most, int(left.Window.Seconds())))
		header.Set("RateLimit", fmt.Sprintf(`"attempts";r=%d;t=%d`, left.Attempts, int(math.Ceil(left.Resets.Seconds()))))
	})
}
