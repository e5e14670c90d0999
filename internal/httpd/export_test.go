package httpd

import "time"

// AnswerError is answerError for tests: its faults is not available at will.
var AnswerError = answerError

// Bodies are the operations whose body is not JSON, with its media type.
func Bodies() map[string]string {
	out := map[string]string{}
	for route, b := range bodies {
		out[route] = b.media
	}
	return out
}

// Hurry makes bodies and answers hurry for a test.
func Hurry(body, answer time.Duration) (undo func()) {
	b, a := idleBody, idleWrite
	idleBody, idleWrite = body, answer
	return func() { idleBody, idleWrite = b, a }
}

// Outermost is what holds for every request.
var Outermost = outermost
