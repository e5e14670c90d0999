package labfile

// What another Tessellant lends: four lines, which say all. The rest is what its WebDriver door and its API take, written here as a lab file would have it.

import (
	"cmp"
	"fmt"
	"net/url"
	"strings"

	"go.yaml.in/yaml/v3"
)

// NoDevice is how a Tessellant's answer begins that has no device of those it lends for now.
const NoDevice = "no device came free"

// lender is such a lab, besides its address, its key and its limits.
const lender = `
catalogue: {address: %[1]s/api/v1/catalogue, every: 10s}
build: {address: "%[1]s/api/v1/builds?filename={{query .App.File}}", answer: /id}
session:
  capabilities:
    alwaysMatch:
      platformName: "{{.Device.Platform}}"
      tessellant:build: "{{.Build}}"
      tessellant:where: ["serial={{.Device.ID}}"]
      tessellant:conditions: "{{.Conditions}}"
      tessellant:group: lent
      tessellant:name: "{{.Name}}"
      tessellant:patience: 60
      tessellant:idle: 300
      tessellant:limit: 86400
  within: 15m
  busy: ` + NoDevice + `
  told: {device: /tessellant:device/serial, model: /tessellant:device/model, os: /tessellant:device/os, reference: /tessellant:session}
  page: "%[1]s/sessions/{{.Reference}}"
commands:
  install: {address: tessellant/app/install, body: {build: "{{.Build}}"}}
  launch: {address: tessellant/app/launch, body: {app: "{{.App.ID}}", args: "{{.Args}}"}}
  stop: {address: tessellant/app/stop, body: {app: "{{.App.ID}}"}}
  clear: {address: tessellant/app/clear, body: {app: "{{.App.ID}}"}}
  log: {address: tessellant/log, body: {since: "{{.Next}}"}, answer: /value/lines, next: /value/next}
  clock: {method: GET, address: tessellant/time}
  keyboard: {method: GET, address: tessellant/keyboard}
  press: {address: tessellant/key, body: {key: "{{.Key}}"}}
  rotate: {address: tessellant/orientation, body: {orientation: "{{.Orientation}}"}}
  put_file: {address: tessellant/file/put, body: {path: "{{.Path}}", content: "{{.Content}}"}}
  fetch_file: {address: tessellant/file/fetch, body: {path: "{{.Path}}"}}
`

// tessellant reads a lab of that kind.
func (r *reader) tessellant(l *Lab, n *yaml.Node, m nodes) {
	address := strings.TrimRight(r.text(m["address"], "address"), "/")
	u, err := url.Parse(address)
	switch {
	case m["address"] == nil || err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.ContainsAny(address, "\"{}%?#' \t\n"):
		r.say(cmp.Or(m["address"], n), "its address is not that of a Tessellant", "write address: https://… as its console has it")
		return
	case u.User != nil:
		r.say(m["address"], "its address has a user or a password in it", "write key: {env: VARIABLE} or {file: path}")
		return
	case m["key"] == nil:
		r.say(n, "this lab has no key", "write key: {env: VARIABLE} or {file: path}: a key of role borrower, which the other Tessellant's operator makes")
		return
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(fmt.Appendf(nil, lender, address), &doc); err != nil {
		panic(err) // the text above is ours
	}
	all := r.mapping(doc.Content[0], "a lab", labKeys...)
	for _, key := range []string{"origin", "trust", "at_once", "max_minutes_a_day"} {
		all[key] = m[key]
	}
	scalar := func(v string) *yaml.Node {
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: v, Line: m["address"].Line}
	}
	pairs := func(of ...*yaml.Node) *yaml.Node {
		return &yaml.Node{Kind: yaml.MappingNode, Content: of, Line: m["key"].Line}
	}
	all["address"] = scalar(address + "/webdriver")
	all["secrets"] = pairs(scalar("key"), m["key"])
	all["headers"] = pairs(scalar("Authorization"), scalar("Bearer {{.Secret.key}}"))
	r.webdriver(l, n, all)
}
