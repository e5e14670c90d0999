package remoteend_test

import (
	"testing"

	"tessellant/internal/housetest"
)

func TestMain(m *testing.M) { housetest.Main(m) }
