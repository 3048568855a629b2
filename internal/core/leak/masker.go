package leak

// Masker replaces what a [Matcher] finds in a stream, whatever pieces the stream comes in. It keeps back only bytes at the end
// that may be the beginning of a form. It is for one stream and one goroutine.
type Masker struct {
	m       *Matcher
	held    []byte // the end of the stream so far that may be the beginning of a form
	shown   int    // how many bytes of held have been let through already
	covered int    // how many bytes of held belong to what is masked already
	unsure  int    // how many bytes of held are held only because a few of them may be the beginning of a value that is cut
}

// NewMasker makes one for a stream.
func (m *Matcher) NewMasker() *Masker { return &Masker{m: m} }

// token stands for what is masked.
func (m *Matcher) token(s span) string {
	if s.part > 0 {
		return "[masked]"
	}
	return "[masked: " + m.secrets[m.patterns[s.pattern].secret] + "]"
}

// Push takes the next piece of the stream and appends to dst what may be let through.
func (k *Masker) Push(dst, piece []byte) []byte {
	text := piece
	if len(k.held) > 0 {
		text = append(k.held, piece...)
	}
	cut, strong, weak := k.m.cuts(text, len(text), false)
	likely := whole(cut, min(k.m.unfinished(text), strong))
	hold := whole(cut, min(likely, weak))
	dst = k.emit(dst, text, hold, cut)
	k.held, k.unsure = append(k.held[:0], text[hold:]...), likely-hold
	return dst
}

// whole is the place, before one or there, up to which each value that is cut is there with all of its parts.
func whole(cut [][]span, hold int) int {
	for again := true; again; {
		again = false
		for _, parts := range cut {
			if first := parts[0].at; first < hold && parts[len(parts)-1].at >= hold {
				hold, again = first, true
			}
		}
	}
	return hold
}

// emit appends the text up to where it is held, masked. All that begins before that is whole.
func (k *Masker) emit(dst, text []byte, hold int, cut [][]span) []byte {
	// What begins before until is masked, and has its token; from is the first byte of which nothing was said.
	until, from := k.covered, max(k.covered, k.shown)
	for _, s := range k.m.spans(text, hold, cut) {
		if s.at >= hold {
			break
		}
		if s.at >= until && s.end > from {
			if s.at > from {
				dst = append(dst, text[from:s.at]...)
			}
			dst = append(dst, k.m.token(s)...)
		}
		until = max(until, s.end)
		from = max(from, until)
	}
	if from < hold {
		dst = append(dst, text[from:hold]...)
	}
	k.covered, k.shown = max(0, until-hold), max(0, k.shown-hold)
	return dst
}

// mostReleased is how many bytes of a value may get through when a stream pauses in the middle of it.
const mostReleased = 3

// Release appends what is held to dst if it is a few bytes only, or if only a few bytes of it may be the beginning of a value that is cut,
// so that whoever waits for a prompt sees the end of it. It is called when nothing came for a while. If they turn out to be the beginning
// of a value, the rest of that is masked, unless it is cut there.
func (k *Masker) Release(dst []byte) []byte {
	if k.unsure > 0 {
		cut, _, _ := k.m.cuts(k.held, len(k.held), false)
		dst = k.emit(dst, k.held, k.unsure, cut)
		k.held = append(k.held[:0], k.held[k.unsure:]...)
		k.unsure = 0
	}
	if from := max(k.shown, k.covered); len(k.held) <= mostReleased && from < len(k.held) {
		dst = append(dst, k.held[from:]...)
		k.shown = len(k.held)
	}
	return dst
}

// Holds reports whether something is held that [Masker.Release] would let through.
func (k *Masker) Holds() bool {
	return k.unsure > 0 || len(k.held) <= mostReleased && max(k.shown, k.covered) < len(k.held)
}

// End appends what is left when the stream has ended. The beginning of a value that did not come whole is masked if it is of
// eight bytes or more.
func (k *Masker) End(dst []byte) []byte {
	text := k.held
	hold := k.m.unfinished(text)
	if len(text)-hold < minLine {
		hold = len(text)
	}
	cut, _, _ := k.m.cuts(text, len(text), true)
	for _, parts := range cut {
		if parts[len(parts)-1].end == len(text) { // the part of a value with which the stream ends, which may be the beginning of another one
			hold = len(text)
		}
	}
	dst = k.emit(dst, text, hold, cut)
	if hold < len(text) && k.covered == 0 {
		dst = append(dst, "[masked: the beginning of a value]"...)
	}
	k.held = nil
	return dst
}
