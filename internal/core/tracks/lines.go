package tracks

import (
	"bufio"
	"errors"
	"fmt"
)

// ReadLine reads a whole line of a track, with its end, of so many bytes at most. The error is io.EOF at the end, also behind the beginning of a line that
// was cut off, or that is still being written.
func ReadLine(br *bufio.Reader, most int) ([]byte, error) {
	var line []byte
	for {
		part, err := br.ReadSlice('\n')
		line = append(line, part...)
		if len(line) > most {
			return nil, fmt.Errorf("it is longer than %d bytes", most)
		}
		switch {
		case err == nil:
			return line, nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return nil, err
		}
	}
}
