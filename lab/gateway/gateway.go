// Package gateway is a small stand-in for a home router that speaks the open port-mapping protocol (Internet Gateway Device, ISO/IEC 29341-8): it
// describes itself and lists the doors that programs asked for, with each of the quirks that such routers have as a switch. It opens no door.
package gateway

import (
	_ "embed"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Demo is what the router of the ridge has in the demo estate.
//
//go:embed ridge.json
var Demo []byte

// Fixture is what the stand-in answers from.
type Fixture struct {
	External string    `json:"external"`
	Mappings []Mapping `json:"mappings"`
}

// Mapping is a door as it is listed (WANIPConnection:1 §2.4.14).
type Mapping struct {
	Remote      string `json:"remote"`
	External    uint16 `json:"external"`
	Protocol    string `json:"protocol"`
	Internal    uint16 `json:"internal"`
	Client      string `json:"client"`
	Disabled    bool   `json:"disabled"`
	Description string `json:"description"`
	Lease       uint32 `json:"lease"` // seconds
}

// Quirks are the ways in which routers are odd.
type Quirks struct {
	End       string        `help:"How the list ends: with a code (713, 714, 402, 501), with a page that is not there (404), by giving the last entry again (again), or by going on (never)." enum:"713,714,402,501,404,again,never" default:"713"`
	Changes   bool          `help:"The list is another each time that it is read."`
	Elsewhere string        `help:"The description says that it is asked at another host." placeholder:"HOST"`
	Base      string        `help:"The description has a base at another host." placeholder:"HOST"`
	Redirects string        `help:"Send whoever asks for the description to another place." placeholder:"URL"`
	Slow      time.Duration `help:"Wait before each answer."`
	Long      bool          `help:"Answer with more than anybody should read."`
	Garbled   int           `help:"The entry of this number cannot be read."`
	Pinholes  bool          `help:"It has doors for IPv6 too, which cannot be listed."`
	PPP       bool          `help:"It is connected by PPP, and says so." name:"ppp"`
	Refuses   bool          `help:"It does not let itself be asked (606)."`
}

// Gateway is the stand-in.
type Gateway struct {
	Fixture
	Quirks
	mu    sync.Mutex
	read  int      // how often the list was read from its beginning
	Asked []string // the actions that were asked for, in order
}

// New is a stand-in that has what a fixture says.
func New(text []byte, q Quirks) (*Gateway, error) {
	g := &Gateway{Quirks: q}
	if err := json.Unmarshal(text, &g.Fixture); err != nil {
		return nil, fmt.Errorf("the fixture cannot be read: %w; expected {\"external\": …, \"mappings\": […]}", err)
	}
	return g, nil
}

var action = regexp.MustCompile(`#(\w+)"?$`)

func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	select {
	case <-time.After(g.Slow):
	case <-r.Context().Done():
		return
	}
	switch {
	case g.Redirects != "" && r.Method == http.MethodGet:
		http.Redirect(w, r, g.Redirects, http.StatusFound)
	case r.Method == http.MethodGet && r.URL.Path == "/rootDesc.xml":
		g.describe(w)
	case r.Method == http.MethodPost && r.URL.Path == "/ctl/connection":
		g.act(w, r)
	default:
		http.NotFound(w, r)
	}
}

func (g *Gateway) service() string {
	if g.PPP {
		return "urn:schemas-upnp-org:service:WANPPPConnection:1"
	}
	return "urn:schemas-upnp-org:service:WANIPConnection:1"
}

func (g *Gateway) describe(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	control := "/ctl/connection"
	if g.Elsewhere != "" {
		control = "http://" + g.Elsewhere + control
	}
	base, pinholes, padding := "", "", ""
	if g.Base != "" {
		base = "<URLBase>http://" + g.Base + "/</URLBase>"
	}
	if g.Pinholes {
		pinholes = `<service><serviceType>urn:schemas-upnp-org:service:WANIPv6FirewallControl:1</serviceType><serviceId>urn:upnp-org:serviceId:WANIPv6Firewall1</serviceId><SCPDURL>/6.xml</SCPDURL><controlURL>/ctl/6</controlURL><eventSubURL>/evt/6</eventSubURL></service>`
	}
	if g.Long {
		padding = "<!-- " + strings.Repeat("padding ", 1<<18) + "-->"
	}
	_, _ = fmt.Fprintf(w, `<?xml version="1.0"?>%s
<root xmlns="urn:schemas-upnp-org:device-1-0"><specVersion><major>1</major><minor>0</minor></specVersion>%s
<device><deviceType>urn:schemas-upnp-org:device:InternetGatewayDevice:1</deviceType><friendlyName>A stand-in</friendlyName><UDN>uuid:1</UDN>
<deviceList><device><deviceType>urn:schemas-upnp-org:device:WANDevice:1</deviceType><UDN>uuid:2</UDN>
<deviceList><device><deviceType>urn:schemas-upnp-org:device:WANConnectionDevice:1</deviceType><UDN>uuid:3</UDN>
<serviceList><service><serviceType>%s</serviceType><serviceId>urn:upnp-org:serviceId:WANConn1</serviceId><SCPDURL>/c.xml</SCPDURL><controlURL>%s</controlURL><eventSubURL>/evt/c</eventSubURL></service>%s</serviceList>
</device></deviceList></device></deviceList></device></root>`, padding, base, g.service(), control, pinholes)
}

func (g *Gateway) act(w http.ResponseWriter, r *http.Request) {
	name := ""
	if found := action.FindStringSubmatch(r.Header.Get("Soapaction")); found != nil {
		name = found[1]
	}
	g.mu.Lock()
	g.Asked = append(g.Asked, name)
	g.mu.Unlock()
	body, err := io.ReadAll(io.LimitReader(r.Body, 64<<10))
	switch {
	case err != nil:
		http.Error(w, err.Error(), http.StatusBadRequest)
	case g.Refuses:
		fault(w, 606, "Action not authorized")
	case name == "GetExternalIPAddress":
		g.answer(w, name, "<NewExternalIPAddress>"+escaped(g.External)+"</NewExternalIPAddress>")
	case name == "GetGenericPortMappingEntry":
		g.entry(w, string(body))
	default:
		fault(w, 401, "Invalid Action")
	}
}

var index = regexp.MustCompile(`<NewPortMappingIndex>(\d+)<`)

func (g *Gateway) entry(w http.ResponseWriter, body string) {
	found := index.FindStringSubmatch(body)
	if found == nil {
		fault(w, 402, "Invalid Args")
		return
	}
	i, _ := strconv.Atoi(found[1])
	list := g.list(i == 0)
	if i >= len(list) {
		switch g.End {
		case "404":
			http.Error(w, "<html>there is no such page</html>", http.StatusNotFound)
			return
		case "again", "never":
			if len(list) == 0 {
				fault(w, 713, "SpecifiedArrayIndexInvalid")
				return
			}
			last := list[len(list)-1]
			if g.End == "never" {
				last.External += uint16(i)
			}
			g.mapping(w, last, false)
			return
		}
		code, _ := strconv.Atoi(g.End)
		fault(w, code, "there are no more")
		return
	}
	g.mapping(w, list[i], g.Garbled == i+1)
}

// list is the list as it is at a reading.
func (g *Gateway) list(begins bool) []Mapping {
	g.mu.Lock()
	defer g.mu.Unlock()
	if begins {
		g.read++
	}
	if g.Changes && g.read%2 == 0 && len(g.Mappings) > 0 {
		return g.Mappings[:len(g.Mappings)-1]
	}
	return g.Mappings
}

func (g *Gateway) mapping(w http.ResponseWriter, m Mapping, garbled bool) {
	port, enabled := strconv.Itoa(int(m.External)), "1"
	if garbled {
		port = "many"
	}
	if m.Disabled {
		enabled = "0"
	}
	g.answer(w, "GetGenericPortMappingEntry", fmt.Sprintf("<NewRemoteHost>%s</NewRemoteHost><NewExternalPort>%s</NewExternalPort><NewProtocol>%s</NewProtocol><NewInternalPort>%d</NewInternalPort><NewInternalClient>%s</NewInternalClient><NewEnabled>%s</NewEnabled><NewPortMappingDescription>%s</NewPortMappingDescription><NewLeaseDuration>%d</NewLeaseDuration>",
		escaped(m.Remote), port, escaped(m.Protocol), m.Internal, escaped(m.Client), enabled, escaped(m.Description), m.Lease))
}

func (g *Gateway) answer(w http.ResponseWriter, name, inner string) {
	envelope(w, http.StatusOK, fmt.Sprintf(`<u:%sResponse xmlns:u="%s">%s</u:%sResponse>`, name, g.service(), inner, name))
}

func fault(w http.ResponseWriter, code int, what string) {
	envelope(w, http.StatusInternalServerError, fmt.Sprintf(`<s:Fault><faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring><detail><UPnPError xmlns="urn:schemas-upnp-org:control-1-0"><errorCode>%d</errorCode><errorDescription>%s</errorDescription></UPnPError></detail></s:Fault>`, code, escaped(what)))
}

func envelope(w http.ResponseWriter, status int, inner string) {
	w.Header().Set("Content-Type", `text/xml; charset="utf-8"`)
	w.WriteHeader(status)
	_, _ = fmt.Fprintf(w, `<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><s:Body>%s</s:Body></s:Envelope>`, inner)
}

func escaped(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}
