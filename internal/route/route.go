// Package route is what a part of the HTTP interface that has a package of its own is made of: rows of a table, which package httpapi
// serves with its own.
package route

import (
	"github.com/labstack/echo/v5"

	"tansu/internal/chest"
	"tansu/internal/strictjson"
)

// Call is one request.
type Call struct {
	*echo.Context
	Caller   chest.Caller             // who it is, of a route that is not for anyone
	Path     func(name string) string // a part of the path, decoded
	Revision func() (int64, error)    // the one that the request says what it changes still has
}

// Route is one row of the table. Handle does the work, in a room.
type Route[Room any] struct {
	Method string
	Path   string // in Echo's form
	Query  string // what it takes in its query, separated by spaces
	Anyone bool   // whoever asks need not prove who they are
	Handle func(Room, *Call) error
}

// New is a row for those who have proved who they are, and Open one for anybody.
func New[Room any](method, path, query string, handle func(Room, *Call) error) Route[Room] {
	return Route[Room]{Method: method, Path: path, Query: query, Handle: handle}
}

// Open is a row for anybody.
func Open[Room any](method, path, query string, handle func(Room, *Call) error) Route[Room] {
	return Route[Room]{Method: method, Path: path, Query: query, Anyone: true, Handle: handle}
}

// Decode reads the body strictly into what a pointer is to: at most so many bytes, which are erased afterwards.
func (c *Call) Decode(limit int64, into any) error {
	text, err := strictjson.Read(c.Response(), c.Request(), limit)
	if err != nil {
		return err
	}
	defer clear(text)
	return strictjson.Decode(text, into)
}
