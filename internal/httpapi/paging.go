package httpapi

import (
	"errors"
	"net/http"

	"tansu/internal/chest"
	"tansu/internal/paging"
)

// listed answers with the part of a list that is asked for, under a name, and with the cursor of the next one.
func listed[T any](c *call, name string, all []T) error {
	after, most, err := page(c)
	if err != nil {
		return err
	}
	part, next, err := paging.Part(all, after, most)
	if errors.Is(err, paging.ErrGone) {
		return chest.Invalid("cursor", "%v", err)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{name: part, "next_cursor": next})
}
