package android_test

import (
	"flag"
	"os"
	"testing"
)

// These phones mostly wait: many are tested at a time, unless it is said how many.
func TestMain(m *testing.M) {
	flag.Parse()
	given := false
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == "test.parallel" })
	if !given {
		_ = flag.Set("test.parallel", "16")
	}
	os.Exit(m.Run())
}
