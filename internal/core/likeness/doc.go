// Package likeness says whether two pictures of screens show the same.
//
// A picture is reduced to its Print (print.go): the shapes of its words, icons and frames in density-independent pixels, and its colours. Alike (alike.go) holds two prints
// against each other and forgives where things lie, how far they are stretched, how dense the screen is, and the system's bars: the same screen on a small phone and on a
// tablet is alike, another text or a missing button is not. Stacks puts prints that are alike together. Where both pictures are from the same kind of device,
// Against (against.go) compares pixel by pixel and says what moved. In: pictures. Out: prints, stacks, regions. It computes alone.
package likeness
