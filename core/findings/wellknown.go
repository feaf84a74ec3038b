package findings

import (
	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// portUse is a port and what it is assigned to, by the service name registry (RFC 6335) or by common use.
type portUse struct {
	ports     netset.PortRange
	transport netset.Transport
	use       string
}

// adminPorts are those by which machines are administered and databases spoken to: not for everybody, whatever answers.
var adminPorts = []portUse{
	{netset.OnePort(22), netset.TCP, "remote administration (ssh)"},
	{netset.OnePort(23), netset.TCP, "remote administration (telnet)"},
	{netset.OnePort(111), netset.Both, "remote procedure calls"},
	{netset.OnePort(135), netset.TCP, "remote procedure calls"},
	{netset.OnePort(139), netset.TCP, "file sharing"},
	{netset.OnePort(161), netset.UDP, "network management (snmp)"},
	{netset.OnePort(389), netset.Both, "directory (ldap)"},
	{netset.OnePort(445), netset.TCP, "file sharing"},
	{netset.PortRange{Lo: 512, Hi: 514}, netset.TCP, "remote administration (r-commands)"},
	{netset.OnePort(623), netset.UDP, "management controllers"},
	{netset.OnePort(636), netset.TCP, "directory (ldap)"},
	{netset.OnePort(873), netset.TCP, "file copies (rsync)"},
	{netset.OnePort(1433), netset.TCP, "databases"},
	{netset.OnePort(1521), netset.TCP, "databases"},
	{netset.OnePort(2049), netset.Both, "file sharing (nfs)"},
	{netset.PortRange{Lo: 2375, Hi: 2376}, netset.TCP, "container engines"},
	{netset.PortRange{Lo: 2379, Hi: 2380}, netset.TCP, "databases"},
	{netset.OnePort(3306), netset.TCP, "databases"},
	{netset.OnePort(3389), netset.Both, "remote desktops"},
	{netset.OnePort(5432), netset.TCP, "databases"},
	{netset.PortRange{Lo: 5900, Hi: 5909}, netset.TCP, "remote desktops"},
	{netset.OnePort(5984), netset.TCP, "databases"},
	{netset.PortRange{Lo: 5985, Hi: 5986}, netset.TCP, "remote administration"},
	{netset.OnePort(6379), netset.TCP, "databases"},
	{netset.OnePort(9042), netset.TCP, "databases"},
	{netset.OnePort(9200), netset.TCP, "databases"},
	{netset.OnePort(10250), netset.TCP, "container engines"},
	{netset.OnePort(11211), netset.Both, "databases"},
	{netset.PortRange{Lo: 27017, Hi: 27019}, netset.TCP, "databases"},
}

// clearPorts are those of protocols that never encrypt. Those that begin in the clear and agree on encryption are left out.
var clearPorts = []portUse{
	{netset.OnePort(21), netset.TCP, "ftp"},
	{netset.OnePort(23), netset.TCP, "telnet"},
	{netset.OnePort(69), netset.UDP, "tftp"},
	{netset.OnePort(80), netset.TCP, "http"},
	{netset.PortRange{Lo: 512, Hi: 514}, netset.TCP, "r-commands"},
	{netset.OnePort(1883), netset.TCP, "mqtt"},
}

// usedFor is what a list has for something open: for a port as it is entered, or for that where it lands.
func usedFor(list []portUse, e *exposure.Open) string {
	for _, p := range list {
		if p.transport.String() != e.Transport && p.transport != netset.Both {
			continue
		}
		if e.Range.Lo <= p.ports.Hi && p.ports.Lo <= e.Range.Hi || p.ports.Contains(e.Port) {
			return p.use
		}
	}
	return ""
}

// Administration is what a port that machines are administered by, or databases spoken to, is for; "" for others.
func Administration(e *exposure.Open) string {
	if e.Site != nil {
		return "" // it picks sites by name: the web
	}
	return usedFor(adminPorts, e)
}

// inTheClear says whether what is said at something open can be read on the way: a site that is served without TLS, on any of its
// paths, or a protocol that never encrypts.
func inTheClear(m *model.Model, e *exposure.Open) bool {
	if e.Listen.TLS || e.Listen.Passthrough || e.Range.Contains(443) { // on 443 TLS is spoken first
		return false
	}
	if e.Site != nil {
		return e.Transport == "tcp" && clearSite(m, e) != nil
	}
	return usedFor(clearPorts, e) != ""
}

// clearSite is the site that serves what is not redirected of a name at something open; nil where all of it is.
func clearSite(m *model.Model, e *exposure.Open) *estate.Site {
	if e.Picked.Redirect.IsZero() {
		return e.Picked
	}
	for _, s := range m.Services[e.Service].Sites {
		if s.Name == *e.Site && s.Record.Redirect.IsZero() && (s.Ports.IsEmpty() || s.Ports.Contains(e.Port)) {
			return s.Record
		}
	}
	return nil
}
