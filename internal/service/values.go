package service

import (
	"errors"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
)

// Served is a value on its way to a caller.
type Served struct {
	Reference reference.Reference // with the version that was served
	Content   secretvalue.Value
	Shape     secretvalue.Shape
	Fields    secretvalue.Fields // all of them, when the whole was asked for of an item that has fields
	CreatedAt time.Time
	NotAfter  time.Time // zero for none
}

// ReadValue serves a value: decide, find the version, check its window, decrypt, record, answer. It returns content
// only after the entry is durable. An exact name needs no right to list; a caller without a grant learns nothing about
// what exists, because the decision comes before any look-up.
func (s *Service) ReadValue(c Caller, ref reference.Reference) (Served, error) {
	a := attempt{s: s}
	a.entry.At, a.entry.Subject, a.entry.Via = s.now(), c.name, c.via
	a.entry.Action, a.entry.Target = "read_value", reference.Reference{Drawer: ref.Drawer, Item: ref.Item}.String()
	a.entry.RequestID, a.entry.Addr, a.entry.Stated, a.entry.Version = c.RequestID, c.Addr, c.Reason, ref.Version

	s.mu.RLock()
	st := s.state
	if st == nil {
		s.mu.RUnlock()
		return Served{}, errLocked
	}
	target := [2]string{ref.Drawer, ref.Item}
	if err := st.readable(target[:]); err != nil {
		s.mu.RUnlock()
		return Served{}, a.fail(err)
	}
	request := st.request(c.id, access.ReadValue, c.context(a.entry.At), target[:]...)
	decision := st.policy.Decide(request)
	if !decision.Allowed {
		why := nearestMiss(st.policy, request)
		s.mu.RUnlock()
		return Served{}, a.decided(decision, access.ReadValue, why)
	}
	served, err := s.decrypt(st, c, ref, a.entry.At)
	s.mu.RUnlock()

	a.entry.Grant = decision.Grant
	if err != nil {
		var damaged *Error
		if !errors.As(err, &damaged) {
			s.options.Log.Error("value cannot be decrypted", "target", a.entry.Target, "error", err)
		}
		return Served{}, a.fail(err)
	}
	a.entry.Version = served.Reference.Version
	if ref.Version != 0 {
		a.entry.Detail = byNumber
	}
	if ref.Field != "" {
		a.entry.Detail += " field " + ref.Field
	}
	if err := a.done(); err != nil {
		served.Content.Wipe()
		return Served{}, err
	}
	return served, nil
}

// decrypt finds the version to serve and opens it. The caller holds the lock on the state.
func (s *Service) decrypt(st *state, c Caller, ref reference.Reference, now time.Time) (Served, error) {
	d, it, err := st.item(ref)
	if err != nil {
		return Served{}, s.hint(st, c, ref, err, now)
	}
	number := ref.Version
	if number == 0 {
		number, err = it.life.Current(now)
	} else if number > len(it.versions) {
		return Served{}, notFound("version "+ref.String(), "")
	} else {
		err = it.life.Servable(number, now)
	}
	var closed *lifecycle.NotServable
	if errors.As(err, &closed) {
		return Served{}, &Error{Code: NotServable, Reason: string(closed.State), Detail: ref.String() + ": " + closed.Error()}
	}
	content, err := s.openVersion(d, it, number)
	if err != nil {
		return Served{}, err
	}
	value, fields, err := choose(it.row, ref, content)
	if err != nil {
		return Served{}, err
	}
	return Served{Reference: reference.Reference{Drawer: ref.Drawer, Item: ref.Item, Version: number, Field: ref.Field}, Content: value, Fields: fields, Shape: shapeOf(it.row),
		CreatedAt: fromMicros(it.versions[number-1].CreatedAt), NotAfter: it.life.Versions[number-1].NotAfter}, nil
}
