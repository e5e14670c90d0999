package answers

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/store"
)

func TestALargeFamilyIsCountedWhole(t *testing.T) {
	e := triage.Explained{Family: triage.Family{ID: "0123", Signature: triage.Signature{Kind: verdict.Failed}, Cases: []string{"a.test_a"}}}
	var rows []store.LegRow
	for i := range maxListed + 500 {
		rows = append(rows, store.LegRow{Work: store.Work{ID: fmt.Sprint(i)}, Serial: fmt.Sprint("d-", i)})
		e.Legs, e.Failures = append(e.Legs, i), append(e.Failures, i)
	}
	f := familyOf(e, rows, nil, example{})
	assert.Len(t, f.Legs, maxListed)
	assert.Equal(t, "failed on 1500 devices", f.Head())
	assert.Equal(t, "In “a” on d-0, d-1, d-2, d-3, d-4, d-5, d-6, d-7 and 1492 more.", f.Where())
	for i := range rows {
		rows[i].Stage, rows[i].Verdict = "done", verdict.Failed
	}
	assert.Equal(t, "Not good: 1500 of 1500 devices fail in “a”.", sentence(store.Run{}, rows, []Family{f}))
}
