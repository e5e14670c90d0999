package access

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheTable(t *testing.T) {
	for _, c := range []struct {
		role Role
		may  []Action
	}{
		{Borrower, []Action{Enter, Borrow, Bring}},
		{Viewer, []Action{Enter, See}},
		{Engineer, []Action{Enter, Borrow, Bring, See, Upload, Test, Share}},
		{Owner, []Action{Enter, Borrow, Bring, See, Upload, Test, Share, Settings, Keys}},
		{Operator, []Action{Enter, Borrow, Bring, See, Upload, Test, Share, Settings, Keys, Devices, Installation}},
		{Host, []Action{Work}},
		{"", nil},
		{"admin", nil},
	} {
		assert.Equal(t, c.may, Allowed(c.role), "%s", c.role)
		for _, a := range Actions() {
			assert.Equal(t, slices.Contains(c.may, a), May(c.role, a), "%s %s", c.role, a)
		}
		assert.True(t, May(c.role, Anyone))
		assert.False(t, May(c.role, "no such action"))
		assert.False(t, May(c.role, ""))
	}
	for _, a := range Actions() {
		assert.NotEmpty(t, Words(a))
		assert.True(t, Known(a))
	}
	assert.False(t, Known("no such action"))
	assert.Equal(t, "engineer, owner or operator", Who(Upload))
	assert.Equal(t, "operator", Who(Installation))
}

func TestNobodyGivesMoreThanTheyHave(t *testing.T) {
	may := map[Role][]Role{}
	for _, r := range append(Given, Host, "") {
		for _, other := range append(Given, Host, "", "admin") {
			if MayGive(r, other) {
				may[r] = append(may[r], other)
			}
		}
	}
	assert.Equal(t, map[Role][]Role{Owner: {Borrower, Viewer, Engineer, Owner}, Operator: {Borrower, Viewer, Engineer, Owner, Operator}}, may)
}
