package httpapi

import (
	"io"
	"net/http"
	"strconv"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/record"
)

func (a *api) verifierKey(c *call) error {
	key := a.service.VerifierKey()
	if key == "" {
		return &chest.Error{Code: chest.Locked,
			Detail: "the key that checkpoints are verified with is known when the chest has been unlocked once"}
	}
	return c.JSON(http.StatusOK, map[string]string{"verifier_key": key, "delivery_key": a.service.DeliveryKey()})
}

func checkpointJSON(p record.Checkpoint) client.Checkpoint {
	return client.Checkpoint{Size: p.Size, At: p.At, Root: p.Root[:], Note: p.Note}
}

// mostCheckpoints is how many a page has.
const mostCheckpoints = 500

func (a *api) checkpoints(c *call) error {
	from, err := queryNumber(c, "from", 0)
	if err != nil {
		return err
	}
	list, err := a.service.Checkpoints(c.caller, from, mostCheckpoints)
	if err != nil {
		return err
	}
	answer := []client.Checkpoint{}
	for _, p := range list {
		answer = append(answer, checkpointJSON(p))
	}
	return listed(c, "checkpoints", answer)
}

// queryNumber reads a number of an entry or a size; none is the number given.
func queryNumber(c *call, name string, none uint64) (uint64, error) {
	text := c.QueryParam(name)
	if text == "" {
		return none, nil
	}
	n, err := strconv.ParseUint(text, 10, 62)
	if err != nil || n == 0 {
		return 0, &chest.Error{Code: chest.InvalidInput, Field: name, Detail: name + " is not a whole number from 1 on"}
	}
	return n, nil
}

func (a *api) makeCheckpoint(c *call) error {
	made, err := a.service.MakeCheckpoint(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, checkpointJSON(made))
}

func (a *api) prove(c *call) error {
	seq, err := strconv.ParseUint(c.param("seq"), 10, 62)
	if err != nil {
		return &chest.Error{Code: chest.InvalidInput, Field: "seq", Detail: "an entry is named by its number"}
	}
	p, err := a.service.Prove(c.caller, seq)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Proof{Seq: p.Seq, Entry: p.Entry, Checkpoint: p.Checkpoint, Hashes: append([][]byte{}, p.Hashes...)})
}

func (a *api) proveExtends(c *call) error {
	from, err := queryNumber(c, "from", 0)
	if err != nil {
		return err
	}
	newer, hashes, err := a.service.ProveExtends(c.caller, from)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Extension{From: from, Checkpoint: newer.Note, Hashes: append([][]byte{}, hashes...)})
}

// exportTrail streams entries, so that a trail of any length takes no more memory.
func (a *api) exportTrail(c *call) error {
	from, err := queryNumber(c, "from", 1)
	if err != nil {
		return err
	}
	begun := false
	err = a.service.ExportTrail(c.caller, from, func(p record.Checkpoint) (io.Writer, error) {
		header := c.Response().Header()
		header.Set("Content-Type", "application/jsonl")
		header.Set("Tansu-Trail-Size", strconv.FormatUint(p.Size, 10))
		c.Response().WriteHeader(http.StatusOK)
		begun = true
		return newPatient(c.Response())
	})
	if err != nil && begun {
		a.log.Error("an export of the trail broke off", "request_id", requestID(c.Context), "error", err)
		panic(http.ErrAbortHandler) // or what was sent would look whole
	}
	return err
}

// patient is an answer that may take as long as it likes, as long as it goes on.
type patient struct {
	w       io.Writer
	control *http.ResponseController
	until   time.Time
}

// newPatient lifts the server's limit on how long a request may take, which ends what is still being answered, too.
func newPatient(w http.ResponseWriter) (*patient, error) {
	p := &patient{w: w, control: http.NewResponseController(w)}
	return p, p.control.SetReadDeadline(time.Time{})
}

// goesOn is how long a client may take for what is sent to it before it counts as gone.
const goesOn = 30 * time.Second

func (p *patient) Write(b []byte) (int, error) {
	if now := time.Now(); p.until.Sub(now) < goesOn/2 {
		p.until = now.Add(goesOn)
		if err := p.control.SetWriteDeadline(p.until); err != nil {
			return 0, err
		}
	}
	return p.w.Write(b)
}

func (a *api) upkeep(c *call) error {
	u, err := a.service.LookAfter(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Upkeep{Entries: u.Entries, Witnesses: followersJSON(u.Witnesses), Outlets: followersJSON(u.Outlets)})
}

func followersJSON(list []record.Follower) []client.Follower {
	answer := []client.Follower{}
	for _, f := range list {
		answer = append(answer, client.Follower(f))
	}
	return answer
}
