package agent

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"tansu/client"
)

// journal keeps reads that the chest has not recorded, on disk before their answers leave, until they are reported. It has no
// value in it.
type journal struct {
	work chan addition
	quit chan struct{} // closed when nothing more is taken

	mu     sync.Mutex // guards what follows
	file   *os.File
	open   []kept // not reported yet, in order
	number uint64
	failed error
}

// kept is a read and whose it was.
type kept struct {
	Profile string `json:"profile"`
	client.KeptRead
}

type addition struct {
	read kept
	done chan error
}

// mostOpen bounds how many reads wait to be reported; beyond it nothing more is served from what is kept.
const mostOpen = 200_000

// openJournal reads what an earlier agent has left, which may have been killed at any instant.
func openJournal(path string) (*journal, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("make the place of the journal: %w", err)
	}
	j := &journal{work: make(chan addition, 256), quit: make(chan struct{})}
	content, err := os.Open(path)
	if err == nil {
		lines := bufio.NewScanner(content)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			var read kept
			if json.Unmarshal(lines.Bytes(), &read) == nil { // the last line may be cut off: its answer never left
				j.open = append(j.open, read)
				j.number = max(j.number, read.Number)
			}
		}
		err = errors.Join(lines.Err(), content.Close())
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	if j.file, err = os.OpenFile(path, os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600); err != nil {
		return nil, fmt.Errorf("open the journal: %w", err)
	}
	if err := j.rewrite(); err != nil {
		return nil, err
	}
	go j.write()
	return j, nil
}

// add makes a read durable, together with others that come at the same time.
func (j *journal) add(read kept) error {
	done := make(chan error, 1)
	select {
	case j.work <- addition{read, done}:
	case <-j.quit:
		return errStopped
	}
	select {
	case err := <-done:
		return err
	case <-j.quit:
		return errStopped
	}
}

var errStopped = errors.New("the agent stops")

func (j *journal) write() {
	for {
		var batch []addition
		select {
		case first := <-j.work:
			batch = append(batch, first)
		case <-j.quit:
			return
		}
		for more := true; more && len(batch) < cap(j.work); {
			select {
			case next := <-j.work:
				batch = append(batch, next)
			default:
				more = false
			}
		}
		err := j.append(batch)
		for _, one := range batch {
			one.done <- err
		}
	}
}

func (j *journal) append(batch []addition) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if len(j.open)+len(batch) > mostOpen {
		return errors.New("too many reads wait to be reported")
	}
	if j.failed != nil { // what half a line became of is found out by writing all of it again
		if j.failed = j.rewrite(); j.failed != nil {
			return j.failed
		}
	}
	var text []byte
	before := j.number
	for i := range batch {
		j.number++
		batch[i].read.Number = j.number
		line, err := json.Marshal(batch[i].read)
		if err != nil {
			return err
		}
		text = append(append(text, line...), '\n')
	}
	_, err := j.file.Write(text)
	if err == nil {
		err = j.file.Sync()
	}
	if err != nil {
		j.number, j.failed = before, fmt.Errorf("write the journal: %w", err)
		return j.failed
	}
	for _, one := range batch {
		j.open = append(j.open, one.read)
	}
	return nil
}

// of lists reads of one profile that are not reported yet, the oldest first.
func (j *journal) of(profile string, most int) (list []client.KeptRead) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, read := range j.open {
		if read.Profile == profile && len(list) < most {
			list = append(list, read.KeptRead)
		}
	}
	return list
}

// reported forgets reads that the chest has recorded.
func (j *journal) reported(profile string, reads []client.KeptRead) error {
	gone := make(map[uint64]bool, len(reads))
	for _, read := range reads {
		gone[read.Number] = true
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	left := j.open[:0]
	for _, read := range j.open {
		if read.Profile != profile || !gone[read.Number] {
			left = append(left, read)
		}
	}
	j.open = left
	return j.rewrite()
}

// rewrite makes the file hold what is not reported yet, and nothing else. A file beside it takes its place, so that no instant
// finds less.
func (j *journal) rewrite() error {
	path := j.file.Name()
	next, err := os.CreateTemp(filepath.Dir(path), ".journal-*") // mode 0600
	if err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	out := bufio.NewWriter(next)
	encoder := json.NewEncoder(out)
	for _, read := range j.open {
		err = errors.Join(err, encoder.Encode(read))
	}
	err = errors.Join(err, out.Flush(), next.Sync())
	if err == nil {
		err = os.Rename(next.Name(), path)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("write the journal: %w", err), next.Close(), os.Remove(next.Name()))
	}
	_ = j.file.Close()
	// The name of a temporary file stays with the descriptor; what is appended goes to the one that has the journal's name now.
	j.file = next
	if reopened, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0o600); err == nil {
		_ = next.Close()
		j.file = reopened
	} else {
		return fmt.Errorf("open the journal: %w", err)
	}
	return nil
}

func (j *journal) close() error {
	close(j.quit)
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.file.Close()
}
