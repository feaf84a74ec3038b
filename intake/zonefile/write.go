package zonefile

import (
	"fmt"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"steady-compass/core/estate"
	"steady-compass/core/names"
	"steady-compass/intake"
)

const (
	recordedAs  = "recorded as:"           // behind an address that stands for a name or a machine that is followed
	madeForFile = "made for this file"     // behind what a zone file needs and nobody recorded
	noTTL       = "none is recorded"       // behind a $TTL that only stands in for one
	nobody      = "nobody.invalid."        // a name server that is not recorded (RFC 2606 §2)
	soaTimes    = "1 3600 600 604800 3600" // serial, refresh, retry, expire, minimum: usual ones
)

// Write gives a zone, as an asker sees it, as a master file. What a name server cannot hold stands as what it comes
// to now, and says in a comment how it is recorded; left tells what could not be written at all.
func Write(n *names.Names, zone string, asker names.Asker) (text string, left []string, err error) {
	z, records := n.Zone(zone, asker)
	if z == nil {
		return "", nil, fmt.Errorf("no zone %s is recorded there: expected a name that stands in a zone line", zone)
	}
	var out strings.Builder
	fmt.Fprintf(&out, "$ORIGIN %s\n", dns.Fqdn(zone))
	if z.TTL == estate.NotGiven {
		fmt.Fprintf(&out, "$TTL %d ; %s: this stands in\n", standInTTL, noTTL)
	} else {
		fmt.Fprintf(&out, "$TTL %d\n", z.TTL)
	}
	soa := slices.IndexFunc(records, func(d *estate.DNS) bool { return d.Type == "SOA" })
	server := nobody
	var rest []*estate.DNS
	for i, d := range records {
		if d.Type == "NS" && d.Owner == zone && server == nobody {
			server = dns.Fqdn(d.Value)
		}
		if i != soa {
			rest = append(rest, d)
		}
	}
	if soa >= 0 {
		writeLine(&out, zone, records[soa], "")
	} else {
		fmt.Fprintf(&out, "@ IN SOA %s hostmaster%s %s ; %s\n", server, under(zone), soaTimes, madeForFile)
	}
	if server == nobody {
		fmt.Fprintf(&out, "@ IN NS %s ; %s\n", nobody, madeForFile)
	}
	for _, d := range rest {
		if d.Dynamic == "" && d.Type != "ALIAS" {
			comment := ""
			if d.Note != "" || d.Until != "" {
				comment = recording(d)
			}
			writeLine(&out, zone, d, comment)
			continue
		}
		types := []string{d.Type}
		if d.Type == "ALIAS" {
			types = []string{"A", "AAAA"}
		}
		wrote := false
		for _, t := range types {
			for _, a := range n.Ask(d.Owner, t, asker).Addresses {
				if a.Unknown || d.Dynamic != "" && a.Record != estate.Record(d) {
					continue
				}
				address := &estate.DNS{Owner: d.Owner, Type: t, Value: a.Addr.String(), TTL: d.TTL}
				writeLine(&out, zone, address, recording(d))
				wrote = true
			}
		}
		if !wrote {
			left = append(left, fmt.Sprintf("%s: it comes to no address that is known.", estate.Line(d)))
		}
	}
	return out.String(), left, nil
}

// recording is the comment that says how a record is recorded. A semicolon in it would begin another.
func recording(d *estate.DNS) string {
	return recordedAs + " " + strings.NewReplacer("%", "%25", ";", "%3B").Replace(estate.Line(d))
}

// under is what stands behind a first label of a name in a zone.
func under(zone string) string {
	if zone == "." {
		return "."
	}
	return "." + zone + "."
}

func writeLine(out *strings.Builder, zone string, d *estate.DNS, comment string) {
	owner := dns.Fqdn(d.Owner)
	switch {
	case d.Owner == zone:
		owner = "@"
	case zone != ".":
		owner = strings.TrimSuffix(d.Owner, "."+zone)
	}
	out.WriteString(owner)
	if d.TTL != estate.NotGiven {
		fmt.Fprintf(out, " %d", d.TTL)
	}
	value := d.Value
	if rr, err := dns.NewRR(". 0 IN " + d.Type + " " + d.Value); err == nil && rr != nil {
		value = intake.Value(rr)
	}
	fmt.Fprintf(out, " IN %s %s", d.Type, value)
	if comment != "" {
		fmt.Fprintf(out, " ; %s", comment)
	}
	out.WriteString("\n")
}
