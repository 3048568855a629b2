package leak

import (
	"bytes"
	"encoding/binary"
	"slices"
	"sort"
)

// Secret is a value to look for, and what it is called.
type Secret struct {
	Name  string
	Value []byte
}

// Matcher looks for the forms of values. It holds them, is not changed after [NewMatcher], and is safe for concurrent use.
type Matcher struct {
	secrets  []string
	patterns []pattern // sorted by their bytes
	longest  int
	long     window // of those of minLong bytes or more: eight bytes at each of their first places
	short    window // of the others: their first four bytes
	heads    heads  // of those that are looked for in parts
}

type pattern struct {
	bytes  []byte
	kind   string
	secret int
	cut    bool // it is looked for in parts, too
}

// window finds patterns by bytes in them: the bits say quickly, and wrongly at times, that there may be one.
type window struct {
	bits [1 << (windowBits - 6)]uint64
	at   map[uint64][]hit
}

// hit says that a window is in a pattern, so many bytes after its begin.
type hit struct{ pattern, offset int }

// windowBits makes tables of 128 KiB, which stay in the processor's second cache. A thousand values have some twelve thousand
// forms with a window at each of their first four places, so that one in twenty places is looked at more closely.
const windowBits = 20

// Only every stride-th place of a text is looked at: a pattern that is long enough has a window there wherever it begins.
const (
	stride  = 4
	minLong = 8 + stride - 1
)

// The multiplier spreads bytes over the table (2^64 divided by the golden ratio).
const spread = 0x9E3779B97F4A7C15

func (w *window) may(key uint64) bool {
	h := key * spread >> (64 - windowBits)
	return w.bits[h>>6]>>(h&63)&1 != 0
}

func (w *window) add(key uint64, h hit) {
	at := key * spread >> (64 - windowBits)
	w.bits[at>>6] |= 1 << (at & 63)
	w.at[key] = append(w.at[key], h)
}

// NewMatcher makes a matcher for the forms of values. It returns the names of those that are too small to be looked for.
func NewMatcher(secrets []Secret) (m *Matcher, tooSmall []string) {
	m = &Matcher{long: window{at: map[uint64][]hit{}}, short: window{at: map[uint64][]hit{}}}
	for i, secret := range secrets {
		m.secrets = append(m.secrets, secret.Name)
		forms := Forms(secret.Value)
		if len(forms) == 0 {
			tooSmall = append(tooSmall, secret.Name)
		}
		for _, form := range forms {
			m.patterns = append(m.patterns, pattern{form.Bytes, form.Kind, i, form.Cut})
			m.longest = max(m.longest, len(form.Bytes))
		}
	}
	slices.SortStableFunc(m.patterns, func(a, b pattern) int { return bytes.Compare(a.bytes, b.bytes) })
	for i, p := range m.patterns {
		if len(p.bytes) < minLong {
			m.short.add(uint64(binary.LittleEndian.Uint32(p.bytes)), hit{i, 0})
			continue
		}
		for offset := range stride {
			m.long.add(binary.LittleEndian.Uint64(p.bytes[offset:]), hit{i, offset})
		}
		if p.cut && len(p.bytes) >= minCut {
			m.heads.add(i, p.bytes, p.kind == "hex" && bytes.ContainsAny(p.bytes, " :-"))
		}
	}
	m.heads.ready()
	return m, tooSmall
}

// next finds the first place from one on, and before another, where a form begins, and the longest one there; -1 for none.
func (m *Matcher) next(text []byte, from, before int) (at, found int) {
	at, found = m.nextLong(text, from, before)
	if len(m.short.at) == 0 {
		return at, found
	}
	if at >= 0 {
		before = at + 1
	}
	if short, p := m.nextShort(text, from, before); p >= 0 && (at < 0 || short < at) {
		return short, p
	}
	return at, found
}

func (m *Matcher) nextLong(text []byte, from, before int) (at, found int) {
	if len(m.long.at) == 0 {
		return -1, -1
	}
	// A form that begins at a place has a window at the next multiple of the stride.
	first, last := (from+stride-1)/stride*stride, min(before+stride-1, len(text)-7)
	for i := first; i < last; i += stride {
		w := binary.LittleEndian.Uint64(text[i : i+8])
		if !m.long.may(w) {
			continue
		}
		at, found = -1, -1
		for _, h := range m.long.at[w] {
			begin, p := i-h.offset, m.patterns[h.pattern].bytes
			if begin < from || begin >= before || !bytes.HasPrefix(text[begin:], p) {
				continue
			}
			if at < 0 || begin < at || begin == at && len(p) > len(m.patterns[found].bytes) {
				at, found = begin, h.pattern
			}
		}
		if at >= 0 {
			return at, found
		}
	}
	return -1, -1
}

func (m *Matcher) nextShort(text []byte, from, before int) (at, found int) {
	for i := from; i < min(before, len(text)-3); i++ {
		w := uint64(binary.LittleEndian.Uint32(text[i : i+4]))
		if !m.short.may(w) {
			continue
		}
		found = -1
		for _, h := range m.short.at[w] {
			if p := m.patterns[h.pattern].bytes; bytes.HasPrefix(text[i:], p) && (found < 0 || len(p) > len(m.patterns[found].bytes)) {
				found = h.pattern
			}
		}
		if found >= 0 {
			return i, found
		}
	}
	return -1, -1
}

// unfinished is the first place from which on a text is the beginning of a form, but not all of it; its length for none.
func (m *Matcher) unfinished(text []byte) int {
	i := max(0, len(text)-m.longest+1)
	for ; i < len(text)-minLong; i++ {
		if w := binary.LittleEndian.Uint64(text[i:]); m.long.may(w) {
			for _, h := range m.long.at[w] {
				if longer := m.patterns[h.pattern].bytes; h.offset == 0 && len(longer) > len(text)-i && bytes.HasPrefix(longer, text[i:]) {
					return i
				}
			}
		}
	}
	for ; i < len(text); i++ {
		rest := text[i:]
		for p := sort.Search(len(m.patterns),
			func(p int) bool { return bytes.Compare(m.patterns[p].bytes, rest) >= 0 }); p < len(m.patterns); p++ {
			if !bytes.HasPrefix(m.patterns[p].bytes, rest) {
				break
			}
			if len(m.patterns[p].bytes) > len(rest) {
				return i
			}
		}
	}
	return len(text)
}

// Longest is the longest that a match can be, in bytes. A text that is shorter than that may cut a match off at its end.
func (m *Matcher) Longest() int {
	if m.heads.ends == nil {
		return m.longest
	}
	return max(m.longest, min(widest+m.longest*(widest+minPart)/minPart, mostReach))
}

// Finding is one place where a form of a value is.
type Finding struct {
	Name   string // of the value
	Kind   string // of the form
	At     int    // where in the text
	Length int
}

// Find calls visit for each form in a text, and each value that is cut, that begins before a place and is not within one that was found
// before.
func (m *Matcher) Find(text []byte, before int, visit func(Finding)) {
	cut, _, _ := m.cuts(text, before, false)
	slices.SortStableFunc(cut, func(x, y []span) int { return x[0].at - y[0].at })
	for from := 0; ; {
		at, p := m.next(text, from, before)
		for len(cut) > 0 && (at < 0 || cut[0][0].at < at) {
			if first := cut[0][0]; first.at >= from {
				visit(Finding{m.secrets[m.patterns[first.pattern].secret], m.patterns[first.pattern].kind + ", cut", first.at, first.end - first.at})
				from = first.end
			}
			cut = cut[1:]
		}
		if at < 0 {
			return
		}
		if at < from { // it is in the first part of one that is cut
			continue
		}
		found := m.patterns[p]
		visit(Finding{m.secrets[found.secret], found.kind, at, len(found.bytes)})
		from = at + len(found.bytes)
	}
}
