package fetch

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"github.com/huin/goupnp"
	"github.com/huin/goupnp/dcps/internetgateway2"
	"github.com/huin/goupnp/httpu"
	"github.com/huin/goupnp/soap"

	"steady-compass/intake/router"
)

// How long a router may take to answer, how much it may answer, and how many doors it may list.
const (
	routerWithin = 5 * time.Second
	routerMost   = 1 << 20
	mostMappings = 4096
)

// connection is a service of a gateway that lists mappings.
type connection interface {
	GetExternalIPAddressCtx(context.Context) (string, error)
	GetGenericPortMappingEntryCtx(context.Context, uint16) (remote string, external uint16, protocol string, internal uint16, client string, enabled bool, description string, lease uint32, err error)
}

// connections are these services (ISO/IEC 29341-8-10, -8-11, -8-12).
var connections = []struct {
	urn string
	of  func(goupnp.ServiceClient) connection
}{
	{internetgateway2.URN_WANIPConnection_2, func(c goupnp.ServiceClient) connection {
		return &internetgateway2.WANIPConnection2{ServiceClient: c}
	}},
	{internetgateway2.URN_WANIPConnection_1, func(c goupnp.ServiceClient) connection {
		return &internetgateway2.WANIPConnection1{ServiceClient: c}
	}},
	{internetgateway2.URN_WANPPPConnection_1, func(c goupnp.ServiceClient) connection {
		return &internetgateway2.WANPPPConnection1{ServiceClient: c}
	}},
}

// Router asks a router that describes itself at a URL for its external address and the doors that programs asked it for. The URL names an address:
// nothing else is ever contacted, whatever the description says. Only reading actions are sent.
func Router(ctx context.Context, description string) (router.Answer, error) {
	loc, err := url.Parse(description)
	if err != nil || loc.Scheme != "http" || loc.Host == "" || loc.User != nil {
		return router.Answer{}, fmt.Errorf("%q is no place where a router describes itself; expected a URL as http://10.40.0.1:5000/rootDesc.xml", description)
	}
	at, err := netip.ParseAddr(loc.Hostname())
	if err != nil {
		return router.Answer{}, fmt.Errorf("%q is no address; expected the router's own, as http://10.40.0.1:5000/rootDesc.xml", loc.Hostname())
	}
	x := askingOf(at.Unmap())
	root, err := x.describe(ctx, loc)
	if err != nil {
		return router.Answer{}, err
	}
	for _, kind := range connections {
		for _, s := range root.Device.FindService(kind.urn) {
			control, ok := x.controlled(root, loc, s)
			if !ok {
				continue
			}
			c := goupnp.ServiceClient{SOAPClient: soap.NewSOAPClient(*control), RootDevice: root, Location: loc, Service: s}
			c.SOAPClient.HTTPClient = http.Client{Transport: x.transport, CheckRedirect: x.client.CheckRedirect, Timeout: x.client.Timeout}
			if err := x.list(ctx, kind.of(c)); err != nil {
				return router.Answer{}, fmt.Errorf("%s: %w", control.Host, err)
			}
		}
	}
	x.out.Pinholes = len(root.Device.FindService(internetgateway2.URN_WANIPv6FirewallControl_1)) > 0
	switch {
	case x.asked > 0:
	case len(x.out.Elsewhere) > 0:
		return x.out, fmt.Errorf("%s: nothing was asked: %s", loc, x.out.Elsewhere[0])
	default:
		return x.out, fmt.Errorf("%s describes no router that lists mappings", loc)
	}
	return x.out, nil
}

// asking is a router being asked.
type asking struct {
	at        netip.Addr
	client    *http.Client
	transport *bounded
	asked     int
	out       router.Answer
}

// askingOf asks one address and no other: by no proxy, by no redirect, and for no more than a bounded answer in a bounded time.
func askingOf(at netip.Addr) *asking {
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		to, err := netip.ParseAddrPort(address)
		if err != nil || to.Addr().Unmap() != at {
			return nil, fmt.Errorf("%s is not the router that was named", address)
		}
		return (&net.Dialer{Timeout: routerWithin}).DialContext(ctx, network, address)
	}
	x := &asking{at: at, transport: &bounded{next: &http.Transport{DialContext: dial, DisableKeepAlives: true, MaxResponseHeaderBytes: 64 << 10}}}
	x.client = &http.Client{
		Transport: x.transport,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it sends elsewhere, which is not followed")
		},
		Timeout: routerWithin,
	}
	return x
}

// bounded cuts answers that are longer than is read, and remembers how the last request went: the protocol's client tells neither a page that is
// not there nor a connection that failed from an answer that it cannot read.
type bounded struct {
	next    http.RoundTripper
	failed  error
	missing bool
}

func (b *bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	w, err := b.next.RoundTrip(r)
	b.failed, b.missing = err, err == nil && w.StatusCode == http.StatusNotFound
	if err == nil {
		w.Body = &limited{ReadCloser: w.Body, left: routerMost, failed: &b.failed}
	}
	return w, err
}

type limited struct {
	io.ReadCloser
	left   int
	failed *error
}

var errTooLong = errors.New("its answer is longer than 1 MiB")

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		*l.failed = errTooLong
		return 0, errTooLong
	}
	n, err := l.ReadCloser.Read(p[:min(len(p), l.left)])
	if l.left -= n; err != nil && !errors.Is(err, io.EOF) {
		*l.failed = err
	}
	return n, err
}

func (x *asking) describe(ctx context.Context, loc *url.URL) (*goupnp.RootDevice, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, loc.String(), nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", loc, err)
	}
	w, err := x.client.Do(r)
	if err != nil {
		return nil, fmt.Errorf("%s does not answer: %w", loc.Host, plainly(err))
	}
	defer func() { _ = w.Body.Close() }()
	if w.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s; expected the router's description of itself", loc, w.Status)
	}
	root := new(goupnp.RootDevice)
	d := xml.NewDecoder(w.Body)
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	if err := d.Decode(root); err != nil {
		return nil, fmt.Errorf("%s is no description of a router: %w", loc, err)
	}
	return root, nil
}

// plainly is an error of a request without the request.
func plainly(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}

// controlled is where a service is asked; false where its description says that this is at another address.
func (x *asking) controlled(root *goupnp.RootDevice, loc *url.URL, s *goupnp.Service) (*url.URL, bool) {
	base := loc
	if named, err := url.Parse(root.URLBaseStr); err == nil && named.Host != "" {
		if x.is(named) {
			base = named
		} else {
			x.elsewhere("its base", named)
		}
	}
	control, err := base.Parse(s.ControlURL.Str)
	switch {
	case err != nil || control.Scheme != "http":
		x.out.Elsewhere = append(x.out.Elsewhere, fmt.Sprintf("%s is to be asked at %q, which is no URL of it", s.ServiceType, s.ControlURL.Str))
		return nil, false
	case !x.is(control):
		x.elsewhere("where it is to be asked", control)
		return nil, false
	}
	return control, true
}

// list asks a service of the router for all that it lists: twice, since programs come and go, and what was in it once was a door.
func (x *asking) list(ctx context.Context, c connection) error {
	x.asked++
	if external, err := c.GetExternalIPAddressCtx(ctx); err == nil && external != "" && !slices.Contains(x.out.External, external) {
		x.out.External = append(x.out.External, external)
	}
	first, err := x.entries(ctx, c)
	if err != nil {
		return err
	}
	again, err := x.entries(ctx, c)
	if err != nil {
		return err
	}
	if !slices.EqualFunc(first, again, router.Mapping.Same) {
		x.out.Changed = true
	}
	for _, m := range slices.Concat(first, again) {
		if !slices.ContainsFunc(x.out.Mappings, m.Same) {
			x.out.Mappings = append(x.out.Mappings, m)
		}
	}
	return nil
}

// is says whether a URL is of the address that was named.
func (x *asking) is(u *url.URL) bool {
	a, err := netip.ParseAddr(u.Hostname())
	return err == nil && a.Unmap() == x.at
}

func (x *asking) elsewhere(what string, u *url.URL) {
	if text := fmt.Sprintf("%s is said to be at %s, which is not the address that was named", what, u.Host); !slices.Contains(x.out.Elsewhere, text) {
		x.out.Elsewhere = append(x.out.Elsewhere, text)
	}
}

// The codes by which routers say that the list has no more: the standard's own, and what some answer in their place (WANIPConnection:1 §2.5).
var endOfList = []int{713, 714, 402, 501}

// mostGarbled is how many entries that cannot be read are passed over.
const mostGarbled = 8

// entries are what a service lists, to its end: a code that says so, a page that is not there, or an entry that it gave already.
func (x *asking) entries(ctx context.Context, c connection) (out []router.Mapping, err error) {
	garbled := 0
	for i := range mostMappings {
		var m router.Mapping
		var lease uint32
		m.Remote, m.External, m.Protocol, m.Internal, m.Client, m.Enabled, m.Description, lease, err = c.GetGenericPortMappingEntryCtx(ctx, uint16(i))
		var fault *soap.SOAPFaultError
		switch told := errors.As(err, &fault); {
		case told && slices.Contains(endOfList, fault.Detail.UPnPError.Errorcode), x.transport.missing:
			return out, nil
		case told:
			return nil, fmt.Errorf("it does not list its mappings: %d %s", fault.Detail.UPnPError.Errorcode, fault.Detail.UPnPError.ErrorDescription)
		case x.transport.failed != nil:
			return nil, fmt.Errorf("mapping %d: %w", i+1, x.transport.failed)
		case err != nil:
			x.out.Cut = fmt.Sprintf("entry %d of its list cannot be read (%v)", i+1, err)
			if garbled++; garbled == mostGarbled {
				return out, nil
			}
			continue
		}
		m.Lease = time.Duration(lease) * time.Second
		if slices.ContainsFunc(out, m.Same) {
			return out, nil
		}
		out = append(out, m)
	}
	x.out.Cut = fmt.Sprintf("no more than %d entries are read", mostMappings)
	return out, nil
}

// SearchRouter asks a router at an address where it describes itself (UPnP Device Architecture 1.1 §1.3.2, a search of one device). What it names
// is taken only where it is at that address.
func SearchRouter(ctx context.Context, at netip.Addr) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, searchWithin)
	defer cancel()
	c, err := httpu.NewHTTPUClient()
	if err != nil {
		return "", fmt.Errorf("search for a router: %w", err)
	}
	defer func() { _ = c.Close() }()
	host := netip.AddrPortFrom(at, 1900).String()
	q := &http.Request{Method: "M-SEARCH", Host: host, URL: &url.URL{Opaque: "*"}, Header: http.Header{ // upper case, as routers want it
		"HOST": {host}, "MAN": {`"ssdp:discover"`}, "ST": {"urn:schemas-upnp-org:device:InternetGatewayDevice:1"},
	}}
	answers, err := c.DoWithContext(q.WithContext(ctx), 2)
	if err != nil {
		return "", fmt.Errorf("search for a router at %s: %w", at, err)
	}
	for _, a := range answers {
		loc, err := a.Location()
		if err != nil {
			continue
		}
		if named, err := netip.ParseAddr(loc.Hostname()); err == nil && named.Unmap() == at {
			return loc.String(), nil
		}
	}
	return "", fmt.Errorf("no router at %s says where it describes itself", at)
}

// searchWithin is how long a router may take to say where it describes itself.
const searchWithin = 3 * time.Second
