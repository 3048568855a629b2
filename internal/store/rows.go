package store

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"
	"tansu/internal/entity"

	"github.com/jmoiron/sqlx"
)

// authenticated is what the MAC covers: the table, and every column but the MAC. A column added by a later migration
// gets a json "omitempty", so that the MACs of rows from before stay good.
func authenticated(r entity.Row) []byte {
	content, err := json.Marshal(r)
	if err != nil {
		panic(err) // the row types hold only strings, integers, booleans and bytes
	}
	return append([]byte(r.Table()+"\x00"), content...)
}

// everyKind has one row of each type.
var everyKind = []entity.Row{entity.Identity{}, entity.Member{}, entity.Credential{}, entity.Token{}, entity.Grant{}, entity.Drawer{},
	entity.DrawerKey{}, entity.Item{}, entity.Version{}, entity.Role{}, entity.Request{}, entity.Alias{}, entity.Calendar{}, entity.Slot{},
	entity.Share{}, entity.Issued{}, entity.MasterKey{}}

// columns lists the columns of a row type by its db tags.
func columns(r entity.Row) []string {
	var names []string
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for i := range t.NumField() {
			if field := t.Field(i); field.Anonymous {
				walk(field.Type)
			} else {
				names = append(names, field.Tag.Get("db"))
			}
		}
	}
	walk(reflect.TypeOf(r))
	return names
}

// changes are the writes of a row type.
type changes struct {
	insert, remove *sqlx.NamedStmt
	insertMany     *sqlx.Stmt // as many as are inserted at once
	columns        []string
	row            entity.Row
	updates        map[string]*sqlx.NamedStmt // by the columns that they set
	wanted         []string                   // updates that were used and are not prepared yet
}

func prepare(db *sqlx.DB, r entity.Row) (c *changes, err error) {
	c = &changes{row: r, columns: columns(r), updates: map[string]*sqlx.NamedStmt{}}
	for text, statement := range map[string]**sqlx.NamedStmt{
		"INSERT INTO " + r.Table() + " (" + strings.Join(c.columns, ", ") + ") VALUES (:" + strings.Join(c.columns, ", :") + ")": &c.insert,
		"DELETE FROM " + r.Table() + " WHERE id = :id AND revision = :revision":                                                  &c.remove,
	} {
		if *statement, err = db.PrepareNamed(text); err != nil {
			return c, err
		}
	}
	one := ", (?" + strings.Repeat(", ?", len(c.columns)-1) + ")"
	c.insertMany, err = db.Preparex("INSERT INTO " + r.Table() + " (" + strings.Join(c.columns, ", ") + ") VALUES " +
		strings.Repeat(one, rowsTogether)[2:])
	return c, err
}

// arguments adds the values of a row in the order of its columns.
func (c *changes) arguments(to []any, row entity.Row) []any {
	value := reflect.ValueOf(row)
	seal := value.NumField() - 1
	for i := range seal {
		to = append(to, value.Field(i).Interface())
	}
	return append(to, row.Stamp().Revision, row.Stamp().MAC)
}

// update is the statement that replaces a row. It sets only the columns whose values differ: SQLite rewrites a row's entry in each
// index that has a column which is set, whether or not the value changes.
func (c *changes) update(tx *sqlx.Tx, before, after entity.Row) (*sqlx.NamedStmt, error) {
	was, is := reflect.ValueOf(before), reflect.ValueOf(after)
	var set []string
	for i, name := range c.columns {
		if !sameField(was, is, i) {
			set = append(set, name+" = :"+name)
		}
	}
	text := strings.Join(set, ", ")
	if statement := c.updates[text]; statement != nil {
		return statement, nil
	}
	c.wanted = append(c.wanted, text) // one that is prepared in a transaction ends with it
	return tx.PrepareNamed(updateText(after, text))
}

func updateText(row entity.Row, set string) string {
	return "UPDATE " + row.Table() + " SET " + set + " WHERE id = :id AND revision = :revision - 1"
}

// keep prepares the updates that were used for the first time, when no transaction is under way.
func (c *changes) keep(db *sqlx.DB) {
	for _, text := range c.wanted {
		if statement, err := db.PrepareNamed(updateText(c.row, text)); err == nil { // else it is prepared each time
			c.updates[text] = statement
		}
	}
	c.wanted = nil
}

// sameField compares a field by its place among the columns; the last two are those of the seal, which always change.
func sameField(was, is reflect.Value, column int) bool {
	if column >= was.NumField()-1 {
		return false
	}
	a, b := was.Field(column), is.Field(column)
	if a.Kind() == reflect.Slice {
		return bytes.Equal(a.Bytes(), b.Bytes())
	}
	return a.Interface() == b.Interface()
}
