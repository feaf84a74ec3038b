// Package codes is the table of what may be found: every code with its level, what it is called and a sentence that helps. Levels,
// the codes that an `accept` line may name, SARIF, the help in the interface and docs/codes.md come from it.
package codes

import (
	"slices"
	"strings"
)

// Level is how much a finding matters.
type Level string

const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// Levels are all of them, the worst first.
var Levels = []Level{Error, Warning, Note}

// Rank orders levels, the worst first.
func (l Level) Rank() int { return slices.Index(Levels, l) }

// Code is one kind of thing that may be found.
type Code struct {
	Code  string `json:"code"`
	Level Level  `json:"level" doc:"As a rule; a finding may have another"`
	Title string `json:"title"`
	Help  string `json:"help"`
}

// Family is what codes of one concern begin with.
func (c Code) Family() string {
	family, _, _ := strings.Cut(c.Code, ".")
	return family
}

// Of is the entry of a code.
func Of(code string) (Code, bool) {
	c, ok := byCode[code]
	return c, ok
}

var byCode = func() map[string]Code {
	out := map[string]Code{}
	for _, c := range All {
		out[c.Code] = c
	}
	return out
}()

// All is the table, by family and in the order in which they are spoken of.
var All = []Code{
	{"conflict.socket", Error, "Two listeners on one port", "Two programs cannot take the same port of an address; the one that starts second does not start."},
	{"conflict.map", Error, "Two maps on one port", "A port of the machine leads to one container only; the other one does not start."},
	{"conflict.map-socket", Error, "A map and a listener on one port", "The map takes a port on which a program of the machine listens already, or the other way round."},
	{"conflict.forward", Error, "A forward that gets nothing", "An earlier forward, or one that takes a listener of the router itself, has all that this one names."},
	{"conflict.address", Error, "An address twice", "Two machines hold the same address on one network, without being meant to share it: who answers is chance."},
	{"conflict.network", Error, "Networks that overlap", "An address in both belongs to neither: where it is sent hangs on who sends it."},
	{"conflict.name", Error, "A name recorded in two ways", "An alias can have no other records, and a record can stand once only (RFC 1034 §3.6.2)."},
	{"conflict.site", Error, "Two sites for one name", "The same listener, name and path twice: one of the two is never asked."},
	{"conflict.default", Error, "Two defaults", "A service can have one site that takes what no other takes."},
	{"conflict.record", Note, "The same line twice", "One of them says nothing, and is easily forgotten when the other is changed."},

	{"order.shadowed", Warning, "A line that takes nothing", "The lines before it take all that it names, so it never decides."},
	{"order.redundant", Note, "A line that changes nothing", "What comes after it says the same of what it takes."},
	{"order.unused", Note, "A line that nothing needs", "No recorded flow could match it, or nothing listens behind it."},
	{"order.direction", Warning, "A line on the wrong hook", "Its ports are of a listener that flows reach by another hook than its filter's."},

	{"name.unresolved", Error, "A name without an address", "Whoever asks for it gets no address."},
	{"name.broken-alias", Error, "An alias of nothing", "It leads to a name that has no address."},
	{"name.alias-loop", Error, "Aliases in a ring", "Following them never ends, and no address comes of it."},
	{"name.dangling", Error, "An address that is held by nobody", "The name leads to a public address that no recorded machine has: perhaps somebody else's by now, who answers in its place."},
	{"name.stale", Error, "An address that was ours", "The name leads to an address that a machine of ours gave up; whoever has it now answers."},
	{"name.mail", Error, "A mail exchange that takes no mail", "The name that mail goes to does not resolve, is an alias (RFC 2181 §10.3), or has nothing that takes mail."},
	{"name.unsupported", Error, "A record that its zone cannot have", "The zone is recorded as being without that type."},
	{"name.pinned", Warning, "A fixed record of a changing address", "The address changes, and the record does not follow."},
	{"name.private", Warning, "A private address in a public zone", "Nobody outside can reach it, and it tells how the inside is built."},
	{"name.no-www", Note, "No www", "The apex is served on the web; who types www before it gets nothing."},
	{"name.near-miss", Note, "One letter from a recorded name", "Perhaps that is what was meant."},
	{"name.wildcard-catches", Warning, "A wildcard that is served", "Unknown names reach a site that takes every name."},
	{"name.split", Warning, "Inside and outside end in different places", "The same name leads somewhere else from inside: what works for one may not for the other."},
	{"name.family", Warning, "IPv4 and IPv6 end differently", "Who meets which hangs on the visitor's network."},
	{"name.undelegated", Error, "A zone that its parent does not delegate", "Nobody is led to the servers of the zone."},

	{"path.wrong-place", Error, "It ends elsewhere", "The flow arrives, at another place than the intent says."},
	{"path.no-forward", Error, "Not forwarded", "No line of the router forwards that port."},
	{"path.forward-address", Error, "A forward of an address that is not the router's", "Nothing for that address comes to the router."},
	{"path.forward-nowhere", Error, "A forward to nobody", "No recorded machine has the address that it leads to."},
	{"path.forward-transport", Error, "Forwarded in the other transport", "TCP is asked for and UDP forwarded, or the other way round."},
	{"path.no-public-address", Error, "A private answer to a question from outside", "The address cannot be reached from the internet."},
	{"path.blocked", Error, "A filter stops it", "A line of the filter, or what it does with the rest, stops a flow that is meant to pass."},
	{"path.no-listener", Error, "Nothing listens", "No program is recorded that takes the port there."},
	{"path.loopback", Error, "It listens for its own machine only", "The program takes what comes from its own machine, and nothing from elsewhere."},
	{"path.listen-address", Error, "It listens on an address that is not there", "The machine does not hold the address, so nothing for it arrives."},
	{"path.map-target", Error, "A map to the wrong port", "The container listens, on another port than the map leads to."},
	{"path.no-hairpin", Error, "No loop-back", "From inside, the public address leads to the router, which does not lead it back in."},
	{"path.no-route", Error, "No way there", "No recorded route leads from the one to the other."},
	{"path.tie", Warning, "Several ways", "Nothing recorded says by which router it goes, and they do not end alike."},
	{"path.lost-reply", Error, "The reply is lost", "The flow arrives, and what is answered does not get back."},
	{"path.one-sided", Warning, "Replies go another way", "A filter that keeps state sees one direction only: it works, until something tracks strictly."},

	{"site.speech", Error, "Plain where TLS is spoken, or the reverse", "The listener and the asker do not speak the same."},
	{"site.sources", Warning, "A site that denies whom an intent admits", "Its list of sources leaves out somebody whom it is meant for."},
	{"site.none", Error, "No site has the name", "The service answers other names, and this one is not among them."},
	{"site.default-answers", Warning, "Another site answers in its place", "The name has no site of its own, and the default one takes it."},
	{"site.unknown-service", Error, "A site of a service that nobody runs", "No listener of that service is recorded."},
	{"site.by-address", Warning, "Answered by its bare address", "Who only knows the address gets a site too, though no intent says so."},
	{"site.disabled", Warning, "The site is off", "It is recorded, and not in force."},

	{"upstream.localhost", Error, "localhost is another machine there", "Inside a container, localhost is the container itself."},
	{"upstream.guard", Error, "The sign-in cannot be reached", "The front asks it of every visitor, and gets no answer."},
	{"upstream.unresolved", Error, "The backend's name does not resolve", "The front cannot find the backend by the name that its site gives."},
	{"upstream.mapped-port", Error, "The outer port from beside the container", "A map's outer port is on the machine; beside the container its own port is asked."},
	{"upstream.refused", Error, "The backend does not listen", "Nothing takes the port that the site hands on to."},
	{"upstream.blocked", Error, "A filter stops the front", "The front cannot get to its backend."},
	{"upstream.scheme", Error, "The front speaks otherwise than the backend", "The one speaks TLS and the other does not."},
	{"upstream.cleartext", Warning, "In the clear behind the front", "What is said leaves the machine unencrypted on its way to the backend."},
	{"upstream.name", Error, "The backend does not know the name", "It has sites, and none for the name that it is asked by."},
	{"upstream.loop", Error, "It is handed on in a ring", "The request comes back to a front that had it already."},

	{"pool.empty", Error, "A pool without members", "There is nobody to hand on to."},
	{"pool.down", Error, "No member is in service", "The checks of all members fail."},
	{"pool.degraded", Warning, "Some members are not in service", "The others carry what they should share."},
	{"pool.check", Warning, "A check that cannot succeed", "The member is taken for dead, whatever it does."},
	{"pool.one-network", Warning, "All members on one network", "What takes the network down takes all of them."},
	{"tunnel.closed", Error, "The tunnel cannot be dialled", "Its control port cannot be reached from inside, so nothing comes through."},
	{"tunnel.unused", Note, "Nothing goes through the tunnel", "It stands, and nothing is handed through it."},

	{"cert.missing", Error, "No certificate", "Nothing that could be shown for the name lies there, or it is wanted and not issued yet."},
	{"cert.names", Error, "The name is not on the certificate", "Visitors are warned, or turned away."},
	{"cert.expired", Error, "The certificate is past its day", "Visitors are warned, or turned away."},
	{"cert.expiring", Warning, "The certificate ends soon", "It is within the days in which it is to be renewed."},
	{"cert.trial", Warning, "A trial certificate", "No visitor's machine trusts who issued it."},
	{"cert.renewal", Error, "It cannot be renewed", "The challenge of its method cannot get in (RFC 8555 §8)."},
	{"cert.clash", Error, "Renewal takes a port that is taken", "A program listens on the port that the challenge needs for itself."},
	{"cert.method", Error, "A method that cannot issue it", "A wildcard needs dns-01, and an address cannot have it."},

	{"redirect.dead", Error, "Sent to where nothing answers", "The visitor is sent on, and does not arrive."},
	{"redirect.loop", Error, "Sent in a ring", "The visitor is sent back to where they were."},
	{"redirect.missing", Note, "Served in the clear beside TLS", "Port 80 serves what 443 serves, in place of sending there."},

	{"exposure.undeclared", Warning, "Open, and nobody said so", "No intent says that it is meant to be open to those who reach it."},
	{"exposure.wider", Error, "Open to more than it is meant for", "An intent says for whom it is, and others get in."},
	{"exposure.bypass", Error, "A way around the front", "The backend is reached without the encryption, or the sign-in, of what stands before it."},
	{"exposure.past-input", Warning, "A map ahead of the input filter", "The filter would have stopped it; a mapped port does not meet it."},
	{"exposure.source-lost", Warning, "The asker is hidden from the list", "A relay gives its own address as the source, so a list of sources cannot tell who asks."},
	{"exposure.admin", Error, "Administration open to the internet", "Every address may try to sign in, or to find a hole."},
	{"exposure.plaintext", Warning, "In the clear", "What is said can be read, and changed, on the way."},
	{"exposure.family", Warning, "One family lets in more", "What is shut over IPv4 stands open over IPv6, or the other way round."},
	{"exposure.thin", Note, "One line stands before it", "Taking out a single line would let the internet in."},

	{"intent.unmet", Error, "Meant, and not so", "Somebody whom it is for does not get there."},
	{"intent.undecided", Warning, "It cannot be told whether it is met", "Something on the way is not written down."},
	{"intent.contradicted", Error, "Meant for nobody, and reached", "Somebody gets to what nobody is to reach."},
	{"intent.unguarded", Error, "Meant to be guarded, and nobody signs in", "There is a way to it without the sign-in."},

	{"seen.answer", Error, "It answered something else", "Whoever asks for the name is led elsewhere than the records say."},
	{"seen.shut", Error, "It was shut", "The records say that a program takes it, and whoever looked got no connection."},
	{"seen.open", Error, "It was open", "The records say that nobody gets in, and whoever looked did."},
	{"seen.certificate", Error, "Another certificate was shown", "What was shown is not the recorded certificate, or is not good for who asks."},
	{"seen.redirect", Warning, "It sent elsewhere", "Visitors are sent on to another place than the records say."},
	{"seen.status", Error, "It answered otherwise", "The page answered with an error, or without one, against what the records say."},
	{"seen.site", Error, "Somebody else answered", "What answered is not the site that the records name."},
	{"seen.never", Note, "Nobody looked", "An intent says that it is meant to be reached, or not; nobody has looked from where it counts."},
	{"seen.old", Note, "Looked at before the last change", "What it hangs on has changed since, so what was seen proves nothing of today."},

	{"temporary.expired", Warning, "Past its day", "The line says until when it was meant to be, and is in force still."},
	{"record.unknown-reference", Warning, "A word that nothing recorded has", "The line names something that is not written down; it is judged as if that were not there."},
	{"record.without-effect", Note, "A line without effect", "It can never do anything, as it stands."},
}
