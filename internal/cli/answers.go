package cli

import (
	"encoding/json"
	"reflect"

	"tessellant/api"
)

// The generated answers have the same fields under types of their own; these
// three read them.

// answer is any generated answer.
type answer interface {
	StatusCode() int
	GetBody() []byte
}

func isNil(r any) bool { return r == nil || reflect.ValueOf(r).IsNil() }

func status(r answer) int {
	if isNil(r) {
		return 0
	}
	return r.StatusCode()
}

func bodyOf(r answer) []byte {
	if isNil(r) {
		return nil
	}
	return r.GetBody()
}

// problemOf reads the problem that an answer carries; nil when it is none.
func problemOf(r answer) *api.Problem {
	var p api.Problem
	if json.Unmarshal(bodyOf(r), &p) != nil || p.Title == "" || p.Status == 0 {
		return nil
	}
	return &p
}
