package remote_test

import (
	"testing"

	"tessellant/internal/hostlink/hostlinktest"
	"tessellant/internal/housetest"
)

func TestMain(m *testing.M) { housetest.Main(m) }

func TestALinkToAServiceElsewhere(t *testing.T) { hostlinktest.Run(t, housetest.LinkSubject(t, true)) }
