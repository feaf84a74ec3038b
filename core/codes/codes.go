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

// Over is what codes are found by looking at: one room of core/findings each.
type Over string

const (
	Lines        Over = "lines"        // each by itself, and beside others that say the same
	Ports        Over = "ports"        // of a machine, and all that claim them
	Filters      Over = "filters"      // their lines in order, and whom they stand before
	Names        Over = "names"        // each from several vantages, and beside one another
	Ways         Over = "ways"         // of what is meant, and of every name, to their ends
	Backends     Over = "backends"     // behind sites, pools and tunnels, as their fronts see them
	Certificates Over = "certificates" // and whether they can be renewed
	Openings     Over = "openings"     // from the internet and every network
	Looks        Over = "looks"        // at the real thing
)

// Overs are all of them.
var Overs = []Over{Lines, Ports, Filters, Names, Ways, Backends, Certificates, Openings, Looks}

// Code is one kind of thing that may be found.
type Code struct {
	Code  string `json:"code"`
	Level Level  `json:"level" doc:"As a rule; a finding may have another"`
	Over  []Over `json:"over" nullable:"false" doc:"What it is found by looking at"`
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

func over(kinds ...Over) []Over { return kinds }

// All is the table, by family and in the order in which they are spoken of.
var All = []Code{
	{"conflict.socket", Error, over(Ports, Ways), "Two listeners on one port", "Two programs cannot take the same port of an address; the one that starts second does not start."},
	{"conflict.map", Error, over(Ports), "Two maps on one port", "A port of the machine leads to one container only; the other one does not start."},
	{"conflict.map-socket", Error, over(Ports), "A map and a listener on one port", "The map takes a port on which a program of the machine listens already, or the other way round."},
	{"conflict.forward", Error, over(Ports), "A forward that gets nothing", "An earlier forward, or one that takes a listener of the router itself, has all that this one names."},
	{"conflict.address", Error, over(Lines), "An address twice", "Two machines hold the same address on one network, without being meant to share it: who answers is chance."},
	{"conflict.network", Error, over(Lines), "Networks that overlap", "An address in both belongs to neither: where it is sent hangs on who sends it."},
	{"conflict.name", Error, over(Lines), "A name recorded in two ways", "An alias can have no other records, and a record can stand once only (RFC 1034 §3.6.2)."},
	{"conflict.site", Error, over(Lines), "Two sites for one name", "The same listener, name and path twice: one of the two is never asked."},
	{"conflict.default", Error, over(Lines), "Two defaults", "A service can have one site that takes what no other takes."},
	{"conflict.record", Note, over(Lines), "The same line twice", "One of them says nothing, and is easily forgotten when the other is changed."},

	{"order.shadowed", Warning, over(Filters), "A line that takes nothing", "The lines before it take all that it names, so it never decides."},
	{"order.redundant", Note, over(Filters), "A line that changes nothing", "What comes after it says the same of what it takes."},
	{"order.unused", Note, over(Filters), "A line that nothing needs", "No recorded flow could match it, or nothing listens behind it."},
	{"order.direction", Warning, over(Filters), "A line on the wrong hook", "Its ports are of a listener that flows reach by another hook than its filter's."},

	{"name.unresolved", Error, over(Ways), "A name without an address", "Whoever asks for it gets no address."},
	{"name.broken-alias", Error, over(Ways), "An alias of nothing", "It leads to a name that has no address."},
	{"name.alias-loop", Error, over(Ways), "Aliases in a ring", "Following them never ends, and no address comes of it."},
	{"name.dangling", Error, over(Ways), "An address that is held by nobody", "The name leads to a public address that no recorded machine has: perhaps somebody else's by now, who answers in its place."},
	{"name.stale", Error, over(Lines, Ways), "An address that was ours", "The name leads to an address that a machine of ours gave up; whoever has it now answers."},
	{"name.mail", Error, over(Names), "A mail exchange that takes no mail", "The name that mail goes to does not resolve, is an alias (RFC 2181 §10.3), or has nothing that takes mail."},
	{"name.unsupported", Error, over(Lines), "A record that its zone cannot have", "The zone is recorded as being without that type."},
	{"name.pinned", Warning, over(Lines), "A fixed record of a changing address", "The address changes, and the record does not follow."},
	{"name.private", Warning, over(Lines), "A private address in a public zone", "Nobody outside can reach it, and it tells how the inside is built."},
	{"name.no-www", Note, over(Names), "No www", "The apex is served on the web; who types www before it gets nothing."},
	{"name.near-miss", Note, over(Names), "One letter from a recorded name", "Perhaps that is what was meant."},
	{"name.wildcard-catches", Warning, over(Ways), "A wildcard that is served", "Unknown names reach a site that takes every name."},
	{"name.split", Warning, over(Names), "Inside and outside end in different places", "The same name leads somewhere else from inside: what works for one may not for the other."},
	{"name.family", Warning, over(Ways), "IPv4 and IPv6 end differently", "Who meets which hangs on the visitor's network."},
	{"name.undelegated", Error, over(Lines), "A zone that its parent does not delegate", "Nobody is led to the servers of the zone."},

	{"path.wrong-place", Error, over(Ways), "It ends elsewhere", "The flow arrives, at another place than the intent says."},
	{"path.no-forward", Error, over(Ways), "Not forwarded", "No line of the router forwards that port."},
	{"path.forward-address", Error, over(Lines, Ways), "A forward of an address that is not the router's", "Nothing for that address comes to the router."},
	{"path.forward-nowhere", Error, over(Lines, Ways), "A forward to nobody", "No recorded machine has the address that it leads to."},
	{"path.forward-transport", Error, over(Lines, Ways), "Forwarded in the other transport", "TCP is asked for and UDP forwarded, or the other way round."},
	{"path.no-public-address", Error, over(Ways), "A private answer to a question from outside", "The address cannot be reached from the internet."},
	{"path.blocked", Error, over(Ways), "A filter stops it", "A line of the filter, or what it does with the rest, stops a flow that is meant to pass."},
	{"path.no-listener", Error, over(Lines, Ways), "Nothing listens", "No program is recorded that takes the port there."},
	{"path.loopback", Error, over(Ways), "It listens for its own machine only", "The program takes what comes from its own machine, and nothing from elsewhere."},
	{"path.listen-address", Error, over(Lines), "It listens on an address that is not there", "The machine does not hold the address, so nothing for it arrives."},
	{"path.map-target", Error, over(Lines, Ways), "A map to the wrong port", "The container listens, on another port than the map leads to."},
	{"path.no-hairpin", Error, over(Ways), "No loop-back", "From inside, the public address leads to the router, which does not lead it back in."},
	{"path.no-route", Error, over(Ways), "No way there", "No recorded route leads from the one to the other."},
	{"path.tie", Warning, over(Ways), "Several ways", "Nothing recorded says by which router it goes, and they do not end alike."},
	{"path.lost-reply", Error, over(Ways), "The reply is lost", "The flow arrives, and what is answered does not get back."},
	{"path.one-sided", Warning, over(Ways), "Replies go another way", "A filter that keeps state sees one direction only: it works, until something tracks strictly."},

	{"site.speech", Error, over(Ways), "Plain where TLS is spoken, or the reverse", "The listener and the asker do not speak the same."},
	{"site.sources", Warning, over(Ways), "A site that denies whom an intent admits", "Its list of sources leaves out somebody whom it is meant for."},
	{"site.none", Error, over(Ways), "No site has the name", "The service answers other names, and this one is not among them."},
	{"site.default-answers", Warning, over(Ways), "Another site answers in its place", "The name has no site of its own, and the default one takes it."},
	{"site.unknown-service", Error, over(Lines), "A site of a service that nobody runs", "No listener of that service is recorded."},
	{"site.by-address", Warning, over(Openings), "Answered by its bare address", "Who only knows the address gets a site too, though no intent says so."},
	{"site.disabled", Warning, over(Ways), "The site is off", "It is recorded, and not in force."},

	{"upstream.localhost", Error, over(Ways), "localhost is another machine there", "Inside a container, localhost is the container itself."},
	{"upstream.guard", Error, over(Ways), "The sign-in cannot be reached", "The front asks it of every visitor, and gets no answer."},
	{"upstream.unresolved", Error, over(Ways), "The backend's name does not resolve", "The front cannot find the backend by the name that its site gives."},
	{"upstream.mapped-port", Error, over(Ways), "The outer port from beside the container", "A map's outer port is on the machine; beside the container its own port is asked."},
	{"upstream.refused", Error, over(Ways), "The backend does not listen", "Nothing takes the port that the site hands on to."},
	{"upstream.blocked", Error, over(Ways), "A filter stops the front", "The front cannot get to its backend."},
	{"upstream.scheme", Error, over(Ways), "The front speaks otherwise than the backend", "The one speaks TLS and the other does not."},
	{"upstream.cleartext", Warning, over(Ways), "In the clear behind the front", "What is said leaves the machine unencrypted on its way to the backend."},
	{"upstream.name", Error, over(Ways), "The backend does not know the name", "It has sites, and none for the name that it is asked by."},
	{"upstream.loop", Error, over(Ways), "It is handed on in a ring", "The request comes back to a front that had it already."},

	{"pool.empty", Error, over(Ways, Backends), "A pool without members", "There is nobody to hand on to."},
	{"pool.down", Error, over(Ways, Backends), "No member is in service", "The checks of all members fail."},
	{"pool.degraded", Warning, over(Backends), "Some members are not in service", "The others carry what they should share."},
	{"pool.check", Warning, over(Backends), "A check that cannot succeed", "The member is taken for dead, whatever it does."},
	{"pool.one-network", Warning, over(Backends), "All members on one network", "What takes the network down takes all of them."},
	{"tunnel.closed", Error, over(Ways, Backends), "The tunnel cannot be dialled", "Its control port cannot be reached from inside, so nothing comes through."},
	{"tunnel.unused", Note, over(Backends), "Nothing goes through the tunnel", "It stands, and nothing is handed through it."},

	{"cert.missing", Error, over(Ways), "No certificate", "Nothing that could be shown for the name lies there, or it is wanted and not issued yet."},
	{"cert.names", Error, over(Ways), "The name is not on the certificate", "Visitors are warned, or turned away."},
	{"cert.expired", Error, over(Ways, Certificates), "The certificate is past its day", "Visitors are warned, or turned away."},
	{"cert.expiring", Warning, over(Certificates), "The certificate ends soon", "It is within the days in which it is to be renewed."},
	{"cert.trial", Warning, over(Ways), "A trial certificate", "No visitor's machine trusts who issued it."},
	{"cert.renewal", Error, over(Backends), "It cannot be renewed", "The challenge of its method cannot get in (RFC 8555 §8)."},
	{"cert.clash", Error, over(Certificates), "Renewal takes a port that is taken", "A program listens on the port that the challenge needs for itself."},
	{"cert.method", Error, over(Certificates), "A method that cannot issue it", "A wildcard needs dns-01, and an address cannot have it."},

	{"redirect.dead", Error, over(Ways), "Sent to where nothing answers", "The visitor is sent on, and does not arrive."},
	{"redirect.loop", Error, over(Ways), "Sent in a ring", "The visitor is sent back to where they were."},
	{"redirect.missing", Note, over(Ways), "Served in the clear beside TLS", "Port 80 serves what 443 serves, in place of sending there."},

	{"exposure.undeclared", Warning, over(Openings), "Open, and nobody said so", "No intent says that it is meant to be open to those who reach it."},
	{"exposure.wider", Error, over(Openings), "Open to more than it is meant for", "An intent says for whom it is, and others get in."},
	{"exposure.bypass", Error, over(Openings), "A way around the front", "The backend is reached without the encryption, or the sign-in, of what stands before it."},
	{"exposure.past-input", Warning, over(Openings), "A map ahead of the input filter", "The filter would have stopped it; a mapped port does not meet it."},
	{"exposure.source-lost", Warning, over(Openings), "The asker is hidden from the list", "A relay gives its own address as the source, so a list of sources cannot tell who asks."},
	{"exposure.admin", Error, over(Openings), "Administration open to the internet", "Every address may try to sign in, or to find a hole."},
	{"exposure.plaintext", Warning, over(Openings), "In the clear", "What is said can be read, and changed, on the way."},
	{"exposure.family", Warning, over(Openings), "One family lets in more", "What is shut over IPv4 stands open over IPv6, or the other way round."},
	{"exposure.thin", Note, over(Ways), "One line stands before it", "Taking out a single line would let the internet in."},

	{"intent.unmet", Error, over(Ways), "Meant, and not so", "Somebody whom it is for does not get there."},
	{"intent.undecided", Warning, over(Ways), "It cannot be told whether it is met", "Something on the way is not written down."},
	{"intent.contradicted", Error, over(Openings), "Meant for nobody, and reached", "Somebody gets to what nobody is to reach."},
	{"intent.unguarded", Error, over(Ways), "Meant to be guarded, and nobody signs in", "There is a way to it without the sign-in."},

	{"seen.answer", Error, over(Looks), "It answered something else", "Whoever asks for the name is led elsewhere than the records say."},
	{"seen.shut", Error, over(Looks), "It was shut", "The records say that a program takes it, and whoever looked got no connection."},
	{"seen.open", Error, over(Looks), "It was open", "The records say that nobody gets in, and whoever looked did."},
	{"seen.certificate", Error, over(Looks), "Another certificate was shown", "What was shown is not the recorded certificate, or is not good for who asks."},
	{"seen.redirect", Warning, over(Looks), "It sent elsewhere", "Visitors are sent on to another place than the records say."},
	{"seen.status", Error, over(Looks), "It answered otherwise", "The page answered with an error, or without one, against what the records say."},
	{"seen.site", Error, over(Looks), "Somebody else answered", "What answered is not the site that the records name."},
	{"seen.never", Note, over(Looks), "Nobody looked", "An intent says that it is meant to be reached, or not; nobody has looked from where it counts."},
	{"seen.old", Note, over(Looks), "Looked at before the last change", "What it hangs on has changed since, so what was seen proves nothing of today."},

	{"temporary.expired", Warning, over(Lines), "Past its day", "The line says until when it was meant to be, and is in force still."},
	{"record.unknown-reference", Warning, over(Lines, Backends), "A word that nothing recorded has", "The line names something that is not written down; it is judged as if that were not there."},
	{"record.without-effect", Note, over(Lines), "A line without effect", "It can never do anything, as it stands."},
}
