package chest

import (
	"tansu/internal/core/folding"
	"tansu/internal/store"
)

// SeveralKinds is the action of an entry that stands for refusals of several.
const SeveralKinds = "several"

// fold counts a refusal that is not recorded by itself, durably.
func (a *Attempt) fold(key, receipt string, several bool, refusal *Error) error {
	sample := a.Entry
	sample.RequestID, sample.Receipt, sample.Stated = "", receipt, ""
	if several {
		sample.Action, sample.Target, sample.Reason, sample.Grant, sample.Detail = SeveralKinds, "", "too_many_refusals", "", ""
		refusal = &Error{Code: Throttled, Reason: "too_many_refusals", RetryAfter: folding.Window,
			Detail: "you were refused too many things from this address; refusals are counted, and not explained, for a while"}
	} else if refusal.Refusal != nil {
		refusal.Refusal.Receipt = receipt
	}
	if lost := a.chest.records.Count(store.Fold{Key: key, Sample: string(sample.AppendCanonical(nil)), Count: 1, Since: Micros(a.Entry.At),
		Last: Micros(a.Entry.At)}); lost != nil {
		a.chest.lost(a.Entry.Action, lost)
		return StoreError(lost, "")
	}
	return refusal
}
