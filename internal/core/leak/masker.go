package leak

// Masker replaces what a [Matcher] finds in a stream, whatever pieces the stream comes in. It keeps back only bytes at the end
// that may be the beginning of a form. It is for one stream and one goroutine.
type Masker struct {
	m       *Matcher
	held    []byte // the end of the stream so far that may be the beginning of a form
	shown   int    // how many bytes of held have been let through already
	covered int    // how many bytes of held belong to what is masked already
}

// NewMasker makes one for a stream.
func (m *Matcher) NewMasker() *Masker { return &Masker{m: m} }

// token stands for what is masked.
func (m *Matcher) token(p int) string { return "[masked: " + m.secrets[m.patterns[p].secret] + "]" }

// Push takes the next piece of the stream and appends to dst what may be let through.
func (k *Masker) Push(dst, piece []byte) []byte {
	text := piece
	if len(k.held) > 0 {
		text = append(k.held, piece...)
	}
	hold := k.m.unfinished(text)
	dst = k.emit(dst, text, hold)
	k.held = append(k.held[:0], text[hold:]...)
	return dst
}

// emit appends the text up to where it is held, masked. All forms that begin before that are whole.
func (k *Masker) emit(dst, text []byte, hold int) []byte {
	// What begins before until is masked, and has its token; from is the first byte of which nothing was said.
	until, from := k.covered, max(k.covered, k.shown)
	for at, p := k.m.next(text, 0, hold); at >= 0; at, p = k.m.next(text, at+1, hold) {
		end := at + len(k.m.patterns[p].bytes)
		if at >= until && end > from {
			if at > from {
				dst = append(dst, text[from:at]...)
			}
			dst = append(dst, k.m.token(p)...)
		}
		until = max(until, end)
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

// Release appends what is held to dst if it is a few bytes only, so that who waits for a prompt sees the end of it. It is
// called when nothing came for a while. If they turn out to be the beginning of a value, the rest of that is masked.
func (k *Masker) Release(dst []byte) []byte {
	if from := max(k.shown, k.covered); len(k.held) <= mostReleased && from < len(k.held) {
		dst = append(dst, k.held[from:]...)
		k.shown = len(k.held)
	}
	return dst
}

// Holds reports whether something is held that [Masker.Release] would let through.
func (k *Masker) Holds() bool {
	return len(k.held) <= mostReleased && max(k.shown, k.covered) < len(k.held)
}

// End appends what is left when the stream has ended. The beginning of a value that did not come whole is masked if it is of
// eight bytes or more.
func (k *Masker) End(dst []byte) []byte {
	text := k.held
	hold := k.m.unfinished(text)
	if len(text)-hold < minLine {
		hold = len(text)
	}
	dst = k.emit(dst, text, hold)
	if hold < len(text) && k.covered == 0 {
		dst = append(dst, "[masked: the beginning of a value]"...)
	}
	k.held = nil
	return dst
}
