package agent

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"sync"

	"tansu/client"
	"tansu/internal/wholefile"
)

// journal keeps reads that the chest has not recorded, on disk before their answers leave, until they are reported. It has no
// value in it.
//
// The file is a log: lines of reads, and lines that say up to which number the reads of a profile were reported. It is written anew,
// without what was reported, when that is more than what is left, so that draining it costs what it holds.
type journal struct {
	work chan addition
	quit chan struct{} // closed when nothing more is taken

	mu     sync.Mutex // guards what follows
	file   *os.File
	open   map[string][]kept // not reported yet, by profile, in order
	count  int               // of them all
	dead   int               // reported, and still in the file
	number uint64
	failed error
}

// kept is a read and whose it was.
type kept struct {
	Profile string `json:"profile"`
	client.KeptRead
	Reported uint64 `json:"reported,omitempty"` // of a line that is no read: up to which number those of the profile were reported
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
		return nil, fmt.Errorf("make the directory of the journal: %w", err)
	}
	j := &journal{work: make(chan addition, 256), quit: make(chan struct{}), open: map[string][]kept{}}
	content, err := os.Open(path)
	if err == nil {
		err = errors.Join(j.read(content), content.Close())
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	if err := j.rewrite(path); err != nil {
		return nil, err
	}
	go j.write()
	return j, nil
}

// read takes in what is in a journal.
func (j *journal) read(content io.Reader) error {
	lines := bufio.NewScanner(content)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var line kept
		switch {
		case json.Unmarshal(lines.Bytes(), &line) != nil: // the last line may be cut off: its answer never left
		case line.Reported != 0:
			j.forget(line.Profile, line.Reported)
		default:
			j.open[line.Profile] = append(j.open[line.Profile], line)
			j.count++
			j.number = max(j.number, line.Number)
		}
	}
	return lines.Err()
}

// forget drops the reads of a profile up to a number.
func (j *journal) forget(profile string, upTo uint64) {
	reads := j.open[profile]
	n := sort.Search(len(reads), func(i int) bool { return reads[i].Number > upTo })
	j.open[profile] = reads[n:]
	j.count -= n
	j.dead += n
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
	if j.count+len(batch) > mostOpen {
		return errors.New("too many reads wait to be reported")
	}
	if j.failed != nil { // what half a line became of is found out by writing all of it again
		if j.failed = j.rewrite(j.file.Name()); j.failed != nil {
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
	if err := j.put(text); err != nil {
		j.number = before
		return err
	}
	for _, one := range batch {
		j.open[one.read.Profile] = append(j.open[one.read.Profile], one.read)
	}
	j.count += len(batch)
	return nil
}

// put writes lines to the end of the file, and syncs it.
func (j *journal) put(lines []byte) error {
	_, err := j.file.Write(lines)
	if err == nil {
		err = j.file.Sync()
	}
	if err != nil {
		j.failed = fmt.Errorf("write the journal: %w", err)
	}
	return j.failed
}

// of lists reads of one profile that are not reported yet, the oldest first.
func (j *journal) of(profile string, most int) (list []client.KeptRead) {
	j.mu.Lock()
	defer j.mu.Unlock()
	reads := j.open[profile]
	for _, read := range reads[:min(len(reads), most)] {
		list = append(list, read.KeptRead)
	}
	return list
}

// reported forgets reads that the chest has recorded: the oldest of a profile.
func (j *journal) reported(profile string, reads []client.KeptRead) error {
	if len(reads) == 0 {
		return nil
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	last := reads[len(reads)-1].Number
	j.forget(profile, last)
	if j.dead > j.count {
		return j.rewrite(j.file.Name())
	}
	line, err := json.Marshal(kept{Profile: profile, Reported: last})
	if err != nil {
		return err
	}
	return j.put(append(line, '\n'))
}

// rewrite makes the file hold what is not reported yet, and nothing else, so that no instant finds less.
func (j *journal) rewrite(path string) error {
	err := wholefile.Replace(path, 0o600, func(out io.Writer) error {
		encoder := json.NewEncoder(out)
		for _, reads := range j.open {
			for _, read := range reads {
				if err := encoder.Encode(read); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	next, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("open the journal: %w", err)
	}
	if j.file != nil {
		_ = j.file.Close()
	}
	j.file, j.dead, j.failed = next, 0, nil
	return nil
}

func (j *journal) close() error {
	close(j.quit)
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.file.Close()
}
