package netset

// Transport is TCP, UDP or both; a flow has exactly one, a record may name both.
type Transport uint8

const (
	TCP  Transport = 1
	UDP  Transport = 2
	Both Transport = TCP | UDP
)

func (t Transport) String() string {
	switch t {
	case TCP:
		return "tcp"
	case UDP:
		return "udp"
	case Both:
		return "tcp+udp"
	}
	return "none"
}

// Each lists the single transports in t, tcp first.
func (t Transport) Each() []Transport {
	switch t {
	case Both:
		return []Transport{TCP, UDP}
	case TCP, UDP:
		return []Transport{t}
	}
	return nil
}
