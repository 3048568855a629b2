package trail

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"time"
)

// Report is what came of verifying a trail.
type Report struct {
	Size     uint64     // entries that were read
	Root     Hash       // of the tree over them
	Covered  Checkpoint // the newest checkpoint that the trail matches; its Size is 0 when there is none
	Matched  int        // how many checkpoints it matches
	Problems []string   // what is wrong, in sentences; none when everything is as the checkpoints say
	Notes    []string   // what is not there any more because the chest was restored, as it says itself, in sentences
}

// chunk is up to so many lines, which is a whole tree of the Merkle tree when it has all of them.
const (
	chunkHeight = 12
	chunkLines  = 1 << chunkHeight
	longestLine = 16 << 10 // on average over a chunk; an entry has a few hundred bytes
)

// chunk is lines that are hashed together.
type chunk struct {
	first uint64 // the number that the first line should have
	lines [][]byte
	split bool // a checkpoint ends inside, so that the leaves are needed

	leaves   []Hash
	root     Hash // instead of the leaves
	problems []string
	last     uint64 // the number that the last line says it has
	done     chan struct{}
}

// Verify reads a trail, one encoded entry to a line, and compares it with checkpoints whose signatures are verified
// already. Nothing may be changed, removed, inserted or put in another order up to the newest of them. It calls progress,
// if that is not nil, with the number of entries that are verified so far. The memory it takes does not depend on the
// length of the trail. An error is one of reading.
func Verify(lines io.Reader, checkpoints []Checkpoint, progress func(uint64)) (r Report, err error) {
	checkpoints, r.Notes, r.Problems = ofThisHistory(checkpoints)
	slices.SortFunc(checkpoints, func(x, y Checkpoint) int { return int(int64(x.Size) - int64(y.Size)) })
	order, work := make(chan *chunk, 2*runtime.GOMAXPROCS(0)), make(chan *chunk)
	for range runtime.GOMAXPROCS(0) {
		go func() {
			for c := range work {
				c.hash()
				close(c.done)
			}
		}()
	}
	var failed error
	go func() {
		defer close(order)
		defer close(work)
		failed = cut(lines, checkpoints, func(c *chunk) { order <- c; work <- c })
	}()
	v := verification{Report: &r, left: checkpoints}
	for c := range order {
		<-c.done
		v.add(c)
		if progress != nil {
			progress(v.edge.Size)
		}
	}
	v.end()
	return r, failed
}

// ofThisHistory are the checkpoints with which a trail is compared that is in the newest epoch of them.
func ofThisHistory(checkpoints []Checkpoint) (list []Checkpoint, notes, problems []string) {
	var newest Checkpoint
	for _, c := range checkpoints {
		if len(c.Epochs) > len(newest.Epochs) || newest.Origin == "" {
			newest = c
		}
	}
	for _, c := range checkpoints {
		switch is, err := newest.Comparable(c); {
		case err != nil:
			problems = append(problems, err.Error())
		case is:
			list = append(list, c)
		default:
			notes = append(notes, fmt.Sprintf("the checkpoint of %d entries of %s is of an earlier epoch: the chest was restored afterwards, and "+
				"kept %d of them", c.Size, c.At.UTC().Format(time.RFC3339), slices.Min(newest.Epochs[len(c.Epochs):])))
		}
	}
	return list, notes, problems
}

// cut reads lines into chunks.
func cut(lines io.Reader, checkpoints []Checkpoint, emit func(*chunk)) error {
	reader, next := bufio.NewReaderSize(lines, 1<<16), uint64(1)
	for {
		c := &chunk{first: next, done: make(chan struct{})}
		var bytes []byte
		var ends []int
		var failed error
		for len(ends) < chunkLines && failed == nil {
			var part []byte
			if len(bytes) > chunkLines*longestLine {
				return errors.New("read the trail: it has lines that are longer than any entry")
			}
			if part, failed = reader.ReadSlice('\n'); errors.Is(failed, bufio.ErrBufferFull) {
				failed = nil
				bytes = append(bytes, part...)
				continue
			}
			if bytes = append(bytes, part...); len(part) > 0 || len(bytes) > 0 && (len(ends) == 0 || ends[len(ends)-1] < len(bytes)) {
				ends = append(ends, len(bytes))
			}
		}
		start := 0
		for _, end := range ends {
			c.lines = append(c.lines, trimmed(bytes[start:end]))
			start = end
		}
		next += uint64(len(c.lines))
		c.split = len(c.lines) < chunkLines ||
			slices.ContainsFunc(checkpoints, func(p Checkpoint) bool { return p.Size >= c.first && p.Size < next-1 })
		if len(c.lines) > 0 {
			emit(c)
		}
		switch {
		case errors.Is(failed, io.EOF):
			return nil
		case failed != nil:
			return fmt.Errorf("read the trail: %w", failed)
		}
	}
}

func trimmed(line []byte) []byte { return bytes.TrimSuffix(line, []byte("\n")) }

func (c *chunk) hash() {
	c.leaves = make([]Hash, len(c.lines))
	before := c.first - 1
	for i, line := range c.lines {
		c.leaves[i] = LeafHash(line)
		c.last = seqOf(line)
		if c.last != before+1 && len(c.problems) == 0 {
			c.problems = append(c.problems, misplaced(c.last, c.first+uint64(i)))
		}
		before = c.last
	}
	if !c.split {
		c.root = subtree(c.leaves)
		c.leaves = nil
	}
	c.lines = nil
}

// misplaced says what is wrong with the number of an entry.
func misplaced(seq, place uint64) string {
	switch {
	case seq == 0:
		return fmt.Sprintf("what stands in the place of entry %d is not an entry", place)
	case seq == place+1:
		return fmt.Sprintf("entry %d is missing: entry %d stands in its place", place, seq)
	case seq > place:
		return fmt.Sprintf("entries %d to %d are missing: entry %d stands in their place", place, seq-1, seq)
	}
	return fmt.Sprintf("an entry with the number %d stands in the place of entry %d: it was put in, or the order was changed", seq, place)
}

// verification goes through chunks in order.
type verification struct {
	*Report
	edge     Edge
	left     []Checkpoint // that are not reached yet, the smallest first
	broken   bool         // a checkpoint does not match, and no later one can
	numbered bool         // a number is wrong, and the later ones are, too
}

func (v *verification) add(c *chunk) {
	if len(c.problems) > 0 && !v.numbered {
		v.numbered = true
		v.Problems = append(v.Problems, c.problems...)
	}
	v.match()
	if !c.split {
		v.edge.addTree(c.root, chunkHeight)
		v.match()
		return
	}
	for _, leaf := range c.leaves {
		v.edge.Add(leaf)
		v.match()
	}
}

// match compares the tree as it is with the checkpoints of its size.
func (v *verification) match() {
	for len(v.left) > 0 && v.left[0].Size == v.edge.Size {
		c := v.left[0]
		v.left = v.left[1:]
		switch {
		case v.edge.Root() == c.Root:
			v.Covered = c
			v.Matched++
		case !v.broken:
			v.broken = true
			v.Problems = append(v.Problems, fmt.Sprintf("something among entries %d to %d is not what it was at %s: their hash does not match "+
				"the checkpoint of %d entries",
				v.Covered.Size+1, c.Size, c.At.UTC().Format(time.RFC3339), c.Size))
		}
	}
}

func (v *verification) end() {
	v.match()
	v.Size, v.Root = v.edge.Size, v.edge.Root()
	if len(v.left) > 0 {
		c := v.left[len(v.left)-1]
		v.Problems = append(v.Problems, fmt.Sprintf("the trail ends at entry %d, and at %s it had %d: its end was cut off, or an older copy "+
			"was put in its place",
			v.Size, c.At.UTC().Format(time.RFC3339), c.Size))
	}
}
