package leak

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
)

// A value is cut when line breaks stand in it, with what frames lines: numbers, margins, the column of a dump beside another one, as
// traces, dumps and wrapped texts have it. Each part ends where a line ends, and the last one where the value does. A value of which less
// than lastPart bytes are missing counts as whole.
const (
	minPart  = 4  // of the parts but the first
	sureHead = 4  // a first part that is shorter counts only when a longer one follows, of minLong bytes
	lastPart = 4  // what is shorter is not looked for at the end
	minCut   = 12 // of a form that may be cut
	widest   = 80 // what frames lines, from the end of a part to the begin of the next one
)

// mostReach bounds how far apart the begin and the end of a value are that is cut and looked for in a file.
const mostReach = 64 << 10

// heads finds the forms that may be cut by how their first parts end.
type heads struct {
	bits  []uint64              // by a hash of the last bytes of first parts, whether there may be one
	shift int                   // that leaves as many bits of the hash as there are of those
	ends  map[headEnd][]cutHead // by the last bytes of first parts
}

// headEnd are the last bytes of a first part, eight at most, and how many.
type headEnd struct {
	bytes uint64
	count int
}

func (e headEnd) hash() uint64 { return (e.bytes ^ uint64(e.count)<<60) * spread }

// cutHead is a pattern, and how much of it is in the first part.
type cutHead struct{ pattern, size int }

func endOf(part []byte) headEnd {
	if n := len(part); n >= 8 {
		return headEnd{binary.LittleEndian.Uint64(part[n-8:]), 8}
	}
	var eight [8]byte
	n := copy(eight[:], part[max(0, len(part)-8):])
	return headEnd{binary.LittleEndian.Uint64(eight[:]), n}
}

// add lets a form be looked for in parts.
func (h *heads) add(pattern int, form []byte, spaced bool) {
	if h.ends == nil {
		h.ends = map[headEnd][]cutHead{}
	}
	column := bytes.Contains(form, []byte("  "))
	for size := 1; size < len(form); size++ {
		if spaced && !mayBreak(form, size, column) {
			continue
		}
		if end := endOf(form[:size]); len(h.ends[end]) < mostAlike {
			h.ends[end] = append(h.ends[end], cutHead{pattern, size})
		}
	}
}

// ready makes the bits, when all are added: so many that one in sixteen ends of lines is looked for in vain.
func (h *heads) ready() {
	size := max(10, bits.Len(uint(len(h.ends)))+5)
	h.bits, h.shift = make([]uint64, 1<<(size-6)), 64-size
	set := func(end headEnd) {
		at := end.hash() >> h.shift
		h.bits[at>>6] |= 1 << (at & 63)
	}
	for end, list := range h.ends {
		if end.count < sureHead && len(list) > mostShort {
			delete(h.ends, end)
			continue
		}
		set(end)
		if end.count >= sureHead {
			set(end.last())
		}
	}
}

// last are the last sureHead bytes, for all ends that have them.
func (e headEnd) last() headEnd { return headEnd{e.bytes >> (8 * (e.count - sureHead)), sureHead + 8} }

func (h *heads) may(e headEnd) bool {
	at := e.hash() >> h.shift
	return h.bits[at>>6]>>(at&63)&1 != 0
}

// mostAlike bounds how many first parts that end alike are kept: values that repeat themselves have many, and are no secrets.
const mostAlike = 1024

// mayBreak reports whether a line may end so far in a form of hexadecimal with separators: in a dump with a column for eight bytes only
// there, and else between bytes. In other forms it may anywhere.
func mayBreak(form []byte, size int, column bool) bool {
	if column {
		return bytes.HasPrefix(form[size:], []byte("  "))
	}
	return form[size] == ' ' || bytes.IndexByte([]byte(":-"), form[size-1]) >= 0
}

// at calls visit for what may be a first part that ends at a place, the longest of a form first, until it returns false.
func (h *heads) at(text []byte, end int, visit func(cutHead) bool) {
	all := endOf(text[:end])
	n := all.count
	if n >= sureHead && !h.may(all.last()) {
		n = sureHead - 1
	}
	for ; n > 0; n-- {
		tail := headEnd{all.bytes >> (8 * (all.count - n)), n}
		if !h.may(tail) {
			continue
		}
		for _, head := range slices.Backward(h.ends[tail]) {
			if head.size <= end && !visit(head) {
				return
			}
		}
	}
}

// mostShort is how many forms may end a first part of less than sureHead bytes in one way: of some hundred values on they are so many that
// each line would have one.
const mostShort = 8

// mostHeads bounds how many first parts are tried where a line ends: values that repeat themselves have many, and are no secrets.
const mostHeads = 64

// span is a part of a text that is a form, or a part of one.
type span struct {
	at, end int
	pattern int
	part    int // 0 for a whole form and for a first part, and the place of the others after it
}

// lineEnds calls visit with the places at which a part may end in a line that ends at a place: there, before what frames a line at its end,
// and before the last columns of a dump.
func lineEnds(text []byte, begin, end int, visit func(int)) {
	visit(end)
	trimmed := end
	for trimmed > begin && end-trimmed < 3 && bytes.IndexByte([]byte("\r|<\"'+\\ \t"), text[trimmed-1]) >= 0 {
		trimmed--
		visit(trimmed)
	}
	for from := max(begin+1, end-lastColumn); from < trimmed; {
		n := bytes.Index(text[from:trimmed], columnSpace)
		if n < 0 {
			return
		}
		if at := from + n; text[at-1] != ' ' {
			visit(at)
		}
		from += n + 1
	}
}

var columnSpace = []byte("  ")

// lastColumn is how wide the last column of a dump is, with the spaces before it and what frames it.
const lastColumn = 22

// cuts finds values that are cut and begin before a place, each by its parts. Those of which more may come in a stream are not among
// them: strong is where the first of these begins that is likely, and weak where the first of all does; both are the length of the text
// for none. At the end of a stream nothing more comes, and what is there of a value counts if it is of minLine bytes or more.
func (m *Matcher) cuts(text []byte, before int, ended bool) (found [][]span, strong, weak int) {
	strong, weak = len(text), len(text)
	if m.heads.ends == nil {
		return nil, strong, weak
	}
	for begin := 0; begin < before; {
		n := bytes.IndexByte(text[begin:], '\n')
		broken := n >= 0
		if !broken {
			n = len(text) - begin
		}
		newline := begin + n
		lineEnds(text, begin, newline, func(end int) {
			if !broken && end == newline { // it may go on in the line: see unfinished
				return
			}
			last, tried := -1, 0 // the pattern of which a first part was found
			m.heads.at(text, end, func(head cutHead) bool {
				form, start := m.patterns[head.pattern].bytes, end-head.size
				if tried++; tried > mostHeads {
					return false
				}
				if start < 0 || start >= before || head.pattern == last || !bytes.Equal(text[start:end], form[:head.size]) {
					return true
				}
				last = head.pattern
				var parts []span
				more := !broken && !ended
				if broken {
					parts, more = m.follow(text, head, end, newline, ended)
				}
				switch {
				case more && head.size >= sureHead:
					strong, weak = min(strong, start), min(weak, start)
				case more:
					weak = min(weak, start)
				}
				if len(parts) > 0 {
					found = append(found, parts)
				}
				return true
			})
		})
		begin = newline + 1
	}
	return found, strong, weak
}

// follow finds the parts of a form after the first. It returns none, and whether more of the text may show that there are some.
func (m *Matcher) follow(text []byte, head cutHead, end, newline int, ended bool) (parts []span, more bool) {
	form, size := m.patterns[head.pattern].bytes, head.size
	parts = append(parts, span{end - size, end, head.pattern, 0})
	for {
		for size < len(form) && (form[size] == '\n' || form[size] == '\r') { // where the value itself has a line break
			size++
		}
		if len(form)-size < lastPart {
			return parts, false
		}
		at, n, undecided := nextPart(text, form[size:], end, newline, len(parts) == 1 && head.size < sureHead)
		if undecided && !ended {
			return nil, true
		}
		if n == 0 {
			if ended && size >= minLine && len(text)-newline <= widest {
				return parts, false
			}
			return nil, false
		}
		size, end = size+n, at+n
		parts = append(parts, span{at, end, head.pattern, len(parts)})
		next := bytes.IndexByte(text[end:], '\n')
		if next < 0 {
			next = len(text) - end
		}
		newline = end + next
	}
}

// nextPart finds where a form goes on after a line break: the longest part that ends as one may. It is undecided while what comes may
// make another one longer; what is there at the end of the text is the longest so far then.
func nextPart(text, rest []byte, end, newline int, long bool) (at, n int, undecided bool) {
	if furthest := end + widest + minLong; long && len(rest) >= minLong && newline < furthest && furthest <= len(text) &&
		!bytes.Contains(text[newline:furthest], rest[:minLong]) {
		return 0, 0, false
	}
	for from := newline + 1; from <= end+widest; from++ {
		if from >= len(text) {
			return at, n, true
		}
		ahead := text[from:min(len(text), end+widest+1)]
		next := bytes.IndexByte(ahead, rest[0])
		if line := bytes.IndexByte(ahead[:max(next, 0)], '\n'); line >= 0 || next < 0 && bytes.IndexByte(ahead, '\n') >= 0 {
			break
		}
		if next < 0 {
			return at, n, undecided || end+widest >= len(text)
		}
		from += next
		run := 1
		for run < len(rest) && from+run < len(text) && text[from+run] == rest[run] {
			run++
		}
		whole, open := run == len(rest), from+run == len(text)
		for !whole && !open && rest[run-1] == ' ' && run > 1 { // it is between two columns, too
			run--
		}
		switch {
		case run <= n || long && !open && run < min(minLong, len(rest)):
		case whole && !undecided:
			return from, run, false
		case open && !whole:
			at, n, undecided = from, run, true
		case whole || run >= minPart && endsLine(text, from, from+run, &undecided):
			at, n = from, run
		}
	}
	return at, n, undecided
}

// endsLine reports whether a part may end at a place. It is undecided while the line is not all there.
func endsLine(text []byte, begin, end int, undecided *bool) (is bool) {
	ahead := text[end:min(len(text), end+24)]
	n := bytes.IndexByte(ahead, '\n')
	if n < 0 {
		if end+24 > len(text) {
			*undecided = true
		}
		return false
	}
	lineEnds(text, begin, end+n, func(at int) { is = is || at == end })
	return is
}

// spans lists what is to be masked in a text and begins before a place, in the order of their begins: whole forms, and values that are cut.
func (m *Matcher) spans(text []byte, before int, cut [][]span) (list []span) {
	for at, p := m.next(text, 0, before); at >= 0; at, p = m.next(text, at+1, before) {
		list = append(list, span{at, at + len(m.patterns[p].bytes), p, 0})
	}
	if len(cut) > 0 {
		list = append(list, slices.Concat(cut...)...)
		slices.SortStableFunc(list, func(x, y span) int {
			if x.at != y.at {
				return x.at - y.at
			}
			return y.end - x.end
		})
	}
	return list
}
