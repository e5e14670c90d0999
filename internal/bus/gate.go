package bus

// Who may say and hear what on a bus with hosts on it: each host its own topics alone.

import (
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// Gate says whether a host may come to the bus, by what it shows as user and password. Older hosts do not know of inboxes of their own:
// they have one in common.
type Gate func(user, password string) (older, ok bool)

const (
	inboxes = "tessellant.inbox."
	// olderInbox is where a client of NATS hears answers unless it was told otherwise.
	olderInbox = nats.InboxPrefix
	// answerWithin is how long a host may take for an order.
	answerWithin = 20 * time.Minute
)

// inbox begins the topics on which somebody hears the answers to their calls.
func inbox(name string) string { return inboxes + name }

// isInbox says whether an answer may go to a topic: who calls could name any.
func isInbox(topic string) bool {
	return strings.HasPrefix(topic, inboxes) || strings.HasPrefix(topic, olderInbox)
}

// door lets clients into a server of our own.
type door struct {
	own  Secret // of the service itself
	gate Gate
}

// Check implements server.Authentication.
func (d door) Check(c server.ClientAuthentication) bool {
	o := c.GetOpts()
	if o.Username == d.own.User && o.Password == d.own.Password {
		c.RegisterUser(&server.User{Username: o.Username})
		return true
	}
	if d.gate == nil || o.Username == "" || o.Username == d.own.User {
		return false
	}
	older, ok := d.gate(o.Username, o.Password)
	if !ok {
		return false
	}
	listens := []string{Host(o.Username), Commands(o.Username), Up(o.Username, "*"), inbox(o.Username) + ".>"}
	if older {
		listens = append(listens, olderInbox+">")
	}
	c.RegisterUser(&server.User{Username: o.Username, Permissions: &server.Permissions{ // it may answer what it is called with, too
		Publish: &server.SubjectPermission{Allow: []string{Hosts, Down(o.Username, "*")}}, Subscribe: &server.SubjectPermission{Allow: listens},
		Response: &server.ResponsePermission{MaxMsgs: 1, Expires: answerWithin}}})
	return true
}

// Drop ends the connections of a host to a server of our own.
func (b *NATS) Drop(host string) {
	if b.own == nil {
		return
	}
	all, err := b.own.Connz(&server.ConnzOptions{Username: true, Limit: 1 << 16})
	if err != nil {
		return
	}
	for _, c := range slices.DeleteFunc(all.Conns, func(c *server.ConnInfo) bool { return c.AuthorizedUser != host }) {
		_ = b.own.DisconnectClientByID(c.Cid)
	}
}

// Drop ends the connections of a host.
func (b *Lazy) Drop(host string) {
	if n := b.others(); n != nil {
		n.Drop(host)
	}
}
