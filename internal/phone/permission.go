package phone

// Answering the system's dialog that asks for a permission, and seeing that the answer was taken.

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Decide answers the dialog that asks for a permission on behalf of the app id, and returns when the system says that the app has it, or
// has it not. The permission is a plain word, such as location, or the system's own name. To allow what the app has already, or what the system does
// not ask for, is no error; to deny it is *Refused, as is a dialog that does not come in time.
func Decide(ctx context.Context, p Permissions, id, permission string, allow bool, within time.Duration) error {
	word := map[bool]string{true: "allow ", false: "deny "}[allow] + permission
	names := p.Named(permission)
	if names == nil {
		return fmt.Errorf("%s: no permission is called so; there are %s, and the system's own names, such as android.permission.CAMERA", word, strings.Join(PermissionWords, ", "))
	}
	refuse := func(why, remedy string, args ...any) error {
		return &Refused{Doing: word, Why: fmt.Sprintf(why, args...), Remedy: remedy}
	}
	before, err := p.Permitted(ctx, id)
	if err != nil {
		return err
	}
	asked := false
	for start := time.Now(); ; {
		now, err := p.Permitted(ctx, id)
		if err != nil {
			return err
		}
		known, has := false, false
		for _, n := range names {
			granted, ok := now[n]
			known, has = known || ok, has || granted
		}
		switch {
		case allow && (has || !known):
			return nil
		case !allow && !known:
			return refuse("this system does not ask for it, or the app's manifest does not", "leave it out here: phone.facts[\"api\"] says which system it is")
		case !allow && has && !asked:
			return refuse("the app has it already, and does not ask", "make it ask: phone.ask_permissions() before phone.launch()")
		}
		was, err := p.Answer(ctx, permission, allow)
		if err != nil {
			return err
		}
		if asked = asked || was; was {
			if !allow {
				return notGiven(ctx, p, id, names, word, before)
			}
			continue
		}
		if time.Since(start) >= within {
			if asked {
				return refuse("the dialog that was up asked for something else: the app has now %s", "answer that one first", strings.Join(gained(before, now), ", "))
			}
			return refuse("the system's dialog did not come within %s", "see whether the app asks at this place; it does not ask again what was denied for good", within)
		}
		if err := Pause(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

// notGiven sees that an app does not have what was denied.
func notGiven(ctx context.Context, p Permissions, id string, names []string, word string, before map[string]bool) error {
	now, err := p.Permitted(ctx, id)
	if err != nil {
		return err
	}
	for _, n := range names {
		if now[n] {
			return &Refused{Doing: word, Why: "the dialog was denied, and the app has " + n + " all the same", Remedy: "see what the dialog asked for"}
		}
	}
	return nil
}

func gained(before, now map[string]bool) (out []string) {
	for n, has := range now {
		if has && !before[n] {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// PermissionWords are the plain words for permissions that every driver knows.
var PermissionWords = []string{"location", "notifications", "camera", "microphone", "contacts", "calendar", "calls", "messages", "photos", "files", "bluetooth", "activity", "sensors"}
