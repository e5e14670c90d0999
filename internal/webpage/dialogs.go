package webpage

// Dialogs of a page: alerts, confirms, prompts (section 18 of the standard).

import (
	"context"
	"strings"

	"tessellant/internal/core/w3c"
)

// dialog is an alert, a confirm or a prompt.
type dialog struct {
	Type    string `json:"type"`
	Message string `json:"message"`
	text    *string
}

// Dialog is the dialog that is open: its text. None is an error.
func (x *Page) Dialog() (string, *w3c.Error) {
	_, _, d, _ := x.state()
	if d == nil {
		return "", w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	}
	return d.Message, nil
}

// Answer answers the dialog that is open.
func (x *Page) Answer(ctx context.Context, accept bool) *w3c.Error {
	_, _, d, _ := x.state()
	if d == nil {
		return w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	}
	params := map[string]any{"accept": accept}
	if d.text != nil && accept {
		params["promptText"] = *d.text
	}
	if err := x.do(ctx, "Page.handleJavaScriptDialog", params, nil); err != nil {
		return failed("answer the dialog", err)
	}
	x.mu.Lock()
	if x.dialog == d {
		x.dialog = nil
	}
	x.mu.Unlock()
	return x.settle(ctx)
}

// Prompt sets what is answered to the prompt that is open.
func (x *Page) Prompt(text string) *w3c.Error {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch {
	case x.dialog == nil:
		return w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	case x.dialog.Type != "prompt":
		return w3c.Fail(w3c.ElementNotInteractable, "the dialog takes no text")
	}
	x.dialog.text = &text
	return nil
}

// Unexpected does with a dialog that is in the way of a command what the session's unhandledPromptBehavior says (section 18.5, "handle any user prompts"): dismiss and
// notify unless said. Nil: the command can be done.
func (x *Page) Unexpected(ctx context.Context, behaviour string) *w3c.Error {
	text, none := x.Dialog()
	if none != nil {
		return nil
	}
	said := "is open"
	if behaviour != "ignore" {
		accept := strings.HasPrefix(behaviour, "accept")
		if err := x.Answer(ctx, accept); err != nil {
			return err
		}
		if behaviour == "accept" || behaviour == "dismiss" {
			return nil
		}
		said = "was open and is " + map[bool]string{true: "accepted", false: "dismissed"}[accept]
	}
	err := w3c.Fail(w3c.UnexpectedAlertOpen, "a dialog of the page %s: %s", said, text)
	err.Data = map[string]any{"text": text}
	return err
}
