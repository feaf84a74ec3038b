package estate

import "net/netip"

// Common is what every record may carry, whatever its kind.
type Common struct {
	Off      bool     // recorded, not in force
	Until    Date     // meant to be temporary; in force still
	Note     string   // in the person's words
	Comments []string // the comment lines above it, each with its "#"

	line string // the canonical line, set once when the record is complete
}

// Meta gives the record's common part.
func (c *Common) Meta() *Common { return c }

// Record is one line of an estate. A record is not changed once it is complete.
type Record interface {
	Meta() *Common
	kind() *Kind
}

// KindOf is the kind of a record.
func KindOf(r Record) *Kind { return r.kind() }

// The record kinds. Their meaning, field by field, is in docs/notation.md.
type (
	// Name names the whole: the `estate` line.
	Name struct {
		Common
		Text string
	}
	Network struct {
		Common
		Name     string
		Prefixes []netip.Prefix
		On       string // the machine that a container network is inside of
		Routed   bool
		Filtered bool
	}
	Host struct {
		Common
		Name     string
		Router   bool
		Outside  bool
		Unlisted bool
	}
	Address struct {
		Common
		Hosts   []string // the first holds it
		Held    Held
		Network string // or internet
		Dynamic bool
	}
	Route struct {
		Common
		Host string
		To   string // a CIDR or default
		Via  netip.Addr
	}
	Group struct {
		Common
		Name    string
		Members []Selector
	}
	Zone struct {
		Common
		Name    string
		TTL     Seconds
		Expires Date // of its registration
		For     []Selector
		Without []string
	}
	DNS struct {
		Common
		Owner   string
		Type    string
		Value   string // RFC 1035 words, single spaces between; "" where dynamic
		Dynamic string // the host whose address on internet it follows
		Every   Seconds
		TTL     Seconds
		For     []Selector
	}
	HostsEntry struct {
		Common
		Hostname string
		Addr     netip.Addr
		Place    string
	}
	Forward struct {
		Common
		Router  string
		Bind    Bind
		To      Target // none where it leads to a pool
		Pool    string
		From    []Selector
		Inside  bool
		Hairpin bool
	}
	Outbound struct {
		Common
		Router  string
		From    []Selector
		Leaving string
		As      string // an address or unchanged
	}
	Filter struct {
		Common
		Name             string
		On               []string
		Hook             string
		Otherwise        string
		Family           string // ipv4, ipv6 or "" for both
		DropWins         bool
		Stateless        bool
		Strict           bool // what is of no known flow and begins none is dropped (tcp)
		LoopbackToo      bool
		GuardsContainers bool
	}
	Rule struct {
		Common
		Filter   string
		Action   string // pass, drop, refuse or unknown: it is not recorded what is done
		Ports    Ports
		From     []Selector
		To       []Selector
		Entering string
		Leaving  string
	}
	Container struct {
		Common
		Name       string // host/name
		In         []Attachment
		Aliases    []string
		SharesHost bool
	}
	Map struct {
		Common
		Container string
		Bind      Bind
		To        Ports
		NoRelay   bool
	}
	Listen struct {
		Common
		Place        string
		Bind         Bind
		Service      string
		TLS          bool
		Passthrough  bool
		Certs        []string
		FirstAnswers bool
		InOrder      bool // of the sites that fit a name, the first written answers
		Shared       bool
	}
	Tunnel struct {
		Common
		Name string
		From string
		To   Endpoint
	}
	Site struct {
		Common
		Service  string
		Names    []string // host names, addresses or *
		At       Bind     // no ports where it is every listener of the service
		Path     string
		To       URL
		Pool     string
		Speaking string
		Redirect Redirect
		Files    Files
		Unknown  bool // nobody wrote down what it does
		Asking   string
		Verified bool
		Through  string
		Default  bool
		Guard    Guard
		Sources  []Selector
		Cert     string
	}
	Pool struct {
		Common
		Name      string
		Turn      string // in-turn, least-busy or random
		Sticky    bool
		Check     int // a port; -1 where none
		Path      string
		TLS       bool
		Every     Seconds
		UpAfter   int
		DownAfter int
		Within    Seconds
	}
	Member struct {
		Common
		Pool  string
		At    Endpoint
		Share int
		Spare bool
		Out   bool
	}
	Cert struct {
		Common
		Name    string
		For     []string // host names and addresses
		Expires Date     // "" while it is wanted and not issued yet
		On      []string
		By      string
		Alone   bool
		Through string
		Renew   Seconds
		Every   Seconds
		Trial   bool
	}
	Intent struct {
		Common
		Target   string // a host name, an address or a place
		Ports    Ports
		For      []Selector
		Reaching Endpoint
		Guarded  bool
	}
	Acceptance struct {
		Common
		Code    string
		Subject string
	}
)

// Redirect is where a site sends the client: https on the same name and path, or a URL.
type Redirect struct {
	HTTPS bool
	URL   URL
}

// IsZero says whether the site redirects nowhere.
func (r Redirect) IsZero() bool { return !r.HTTPS && r.URL.IsZero() }

func (r Redirect) String() string {
	if r.HTTPS {
		return "https"
	}
	return r.URL.String()
}

// Guard is what signs visitors in before a site: a service of ours, or something in words.
type Guard struct{ Service, Text string }

func (g Guard) String() string {
	if g.Service != "" {
		return g.Service
	}
	return Quote(g.Text)
}

// Files says that a site serves files, and from where if that is written.
type Files struct {
	Served bool
	Root   string
}
