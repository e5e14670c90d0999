package service_test

import (
	"testing"

	"tessellant/internal/hostlink/hostlinktest"
	"tessellant/internal/housetest"
)

func TestALinkInTheSameProcess(t *testing.T) { hostlinktest.Run(t, housetest.LinkSubject(t, false)) }
