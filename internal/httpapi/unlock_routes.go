package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
)

func (a *api) status(c *call) error {
	status := a.service.Status()
	answer := client.Status{Chest: status.Chest, State: "locked", Methods: append([]string{}, status.Methods...), Version: a.version,
		Records: status.Records, Shares: []client.Handed{}, Problems: []client.Trouble{}}
	if status.Unlocked {
		answer.State = "unlocked"
	}
	for _, h := range status.Shares {
		answer.Shares = append(answer.Shares, client.Handed(h))
	}
	for _, p := range status.Problems {
		answer.Problems = append(answer.Problems, client.Trouble(p))
	}
	return c.JSON(http.StatusOK, answer)
}

func (a *api) unlock(c *call) (err error) {
	var body struct {
		Material string `json:"material"`
		Share    string `json:"share"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	switch {
	case (body.Material == "") == (body.Share == ""):
		return chest.Invalid("material", "either material, the passphrase or the content of the key file, or share is given")
	case body.Share != "":
		_, err = a.service.HandIn(c.origin, secretvalue.FromString(body.Share))
	default:
		err = a.service.Unlock(c.origin, secretvalue.FromString(body.Material))
	}
	if err != nil {
		return err
	}
	return a.status(c)
}

func (a *api) lock(c *call) error {
	if err := a.service.Lock(c.caller); err != nil {
		return err
	}
	return a.status(c)
}

func methodJSON(m opening.Method) client.UnlockMethod {
	answer := client.UnlockMethod{ID: m.ID, Name: m.Name, Kind: m.Kind, NotAfter: m.End, Used: m.Used, CreatedAt: m.CreatedAt,
		CreatedBy: m.CreatedBy, Needed: m.Needed, Custodians: []client.Custodian{}}
	for _, h := range m.Holders {
		answer.Custodians = append(answer.Custodians, client.Custodian(h))
	}
	return answer
}

func (a *api) unlockMethods(c *call) error {
	list, err := a.service.Methods(c.caller)
	if err != nil {
		return err
	}
	answer := []client.UnlockMethod{}
	for _, m := range list {
		answer = append(answer, methodJSON(m))
	}
	return listed(c, "methods", answer)
}

func (a *api) addUnlockMethod(c *call) error {
	var body client.NewUnlockMethod
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	m, err := a.service.AddMethod(c.caller, opening.NewMethod{Name: body.Name, Kind: body.Kind,
		Material: secretvalue.FromString(body.Material), Needed: body.Needed, Custodians: body.Custodians, End: body.NotAfter,
		Replaces: body.Replaces}, secretvalue.FromString(body.Current))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, methodJSON(m))
}

// proven reads what opens the chest now.
func (a *api) proven(c *call) (secretvalue.Value, error) {
	var body struct {
		Current string `json:"current"`
	}
	err := a.decode(c, smallBody, &body)
	return secretvalue.FromString(body.Current), err
}

func (a *api) endUnlockMethod(c *call) error {
	current, err := a.proven(c)
	if err != nil {
		return err
	}
	if err := a.service.EndMethod(c.caller, c.param("method"), current); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) rotateRootKey(c *call) error {
	current, err := a.proven(c)
	if err != nil {
		return err
	}
	wrapped, err := a.service.RotateRoot(c.caller, current)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]int{"wrapped": wrapped})
}

func custodyJSON(s opening.Custody) client.Custody { return client.Custody(s) }

func (a *api) ownShares(c *call) error {
	list, err := a.service.MyShares(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Custody{}
	for _, s := range list {
		answer = append(answer, custodyJSON(s))
	}
	return listed(c, "shares", answer)
}

func (a *api) takeShare(c *call) error {
	words, custody, err := a.service.TakeShare(c.caller, c.param("share"))
	if err != nil {
		return err
	}
	defer words.Wipe()
	return c.JSON(http.StatusOK, client.TakenShare{Custody: custodyJSON(custody), Words: string(words.Reveal())})
}
