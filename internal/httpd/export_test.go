package httpd

// AnswerError is answerError for tests: its faults can't be had at will.
var AnswerError = answerError
