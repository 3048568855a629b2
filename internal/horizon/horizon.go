// Package horizon is what an item's row says of itself so that the item is found when it is due, without looking at every item.
package horizon

import (
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Of completes an item's row with what lets it be found when it is due.
func Of(row entity.Item, versions []entity.Version, now time.Time) entity.Item {
	own, _ := chest.ParseRules(row.Rules) // they were written by this program
	until, since, ok := chest.LifeOf(store.Shelved{Item: row, Versions: versions}, lifecycle.Schedule{Now: own}).Horizon(now)
	if own.Idle != 0 && ok { // nobody may have read it since
		if idle := now.Add(time.Duration(own.Idle)); until.IsZero() || idle.Before(until) {
			until = idle
		}
	}
	if !until.IsZero() {
		until = until.Add(-time.Duration(own.Warn))
	}
	row.ServedUntil, row.ServedSince = chest.Micros(until), chest.Micros(since)
	switch {
	case !ok:
		row.ServedUntil, row.ServedSince = 0, 0
	case until.IsZero():
		row.ServedUntil = store.Always
	}
	return row
}
