package access

import (
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// Context is what is known of a request besides who asks what.
type Context struct {
	Now    time.Time
	Addr   netip.Addr // where the request came from; the zero Addr is in no network
	Via    string     // how the subject proved itself
	Reason string     // the reason that was stated, or empty
	// Anyhow takes all conditions to be as suits the subject best: those of grants that allow hold, and those that deny do not.
	Anyhow bool
}

// Conditions are what must hold besides subject, action and target; those that are empty always hold.
type Conditions struct {
	Networks    []netip.Prefix
	Hours       Hours
	Via         []string
	NeedsReason bool
}

// AnyApp is whichever way an app proved itself.
const AnyApp = "app_token"

// Ways are the ways in which a subject can have proved itself: an app in any way, by its secret, by a key of its own, by a
// certificate, by the word of another issuer, by an ACME account; a person's token, the console.
var Ways = []string{AnyApp, "app_secret", "app_key", "app_certificate", "app_issuer", "app_acme", "person_token", "console_session"}

// Condition names one kind of condition.
type Condition string

// The kinds, in the order in which they are checked.
const (
	Network Condition = "network"
	Time    Condition = "hours"
	Proof   Condition = "via"
	Stated  Condition = "reason"
)

// failing returns the first condition that does not hold, or empty.
func (c *Conditions) failing(ctx *Context) Condition {
	switch {
	case len(c.Networks) > 0 && !c.inNetworks(ctx.Addr):
		return Network
	case !c.Hours.Contain(ctx.Now):
		return Time
	case len(c.Via) > 0 && !c.provedBy(ctx.Via):
		return Proof
	case c.NeedsReason && ctx.Reason == "":
		return Stated
	}
	return ""
}

func (c *Conditions) none() bool {
	return len(c.Networks) == 0 && c.Hours.zone == nil && len(c.Via) == 0 && !c.NeedsReason
}

// String writes the conditions in one line; empty for none.
func (c *Conditions) String() string {
	if c.none() {
		return ""
	}
	return fmt.Sprintf("networks %v, hours %s, via %v, reason %v; ", c.Networks, c.Hours, c.Via, c.NeedsReason)
}

func (c *Conditions) inNetworks(addr netip.Addr) bool {
	addr = addr.Unmap() // an IPv4 address that arrived over an IPv6 socket is the IPv4 address
	for _, network := range c.Networks {
		if network.Contains(addr) {
			return true
		}
	}
	return false
}

func (c *Conditions) provedBy(via string) bool {
	for _, allowed := range c.Via {
		if allowed == via || allowed == AnyApp && strings.HasPrefix(via, "app_") {
			return true
		}
	}
	return false
}

// why says in a sentence why a condition does not hold.
func (c *Conditions) why(failed Condition, ctx *Context) string {
	switch failed {
	case Network:
		texts := make([]string, len(c.Networks))
		for i, network := range c.Networks {
			texts[i] = network.String()
		}
		return fmt.Sprintf("network %s does not contain %s", strings.Join(texts, ", "), ctx.Addr.Unmap())
	case Time:
		return fmt.Sprintf("hours %s do not contain %s", c.Hours, ctx.Now.In(c.Hours.location()).Format("Mon 15:04"))
	case Proof:
		return fmt.Sprintf("it is for those who proved themselves by %s, not by %s", strings.Join(c.Via, " or "), ctx.Via)
	case Stated:
		return "it needs a stated reason"
	}
	return ""
}

// ParseNetworks reads networks in CIDR form (RFC 4632); a single address is a network of one. Bits outside the mask are
// an error: they are a sign of a mistake.
func ParseNetworks(texts []string) ([]netip.Prefix, error) {
	var networks []netip.Prefix
	for _, text := range texts {
		network, err := netip.ParsePrefix(text)
		if addr, single := netip.ParseAddr(text); single == nil && addr.Zone() == "" {
			network, err = netip.PrefixFrom(addr, addr.BitLen()), nil
		}
		if err != nil || network.Masked() != network || network.Addr().Is4In6() {
			return nil, fmt.Errorf("%.60q is not a network; allowed: 10.1.0.0/16, 2001:db8::/32 or a single address", text)
		}
		networks = append(networks, network)
	}
	return networks, nil
}

// Hours are days of the week and a span of the day, in a time zone. The zero Hours are always. A span whose end is not
// after its begin goes past midnight and belongs to the day on which it begins.
type Hours struct {
	days     uint8 // bit 0 is Sunday, as time.Weekday counts
	from, to int   // minutes of the day; to is exclusive
	zone     *time.Location
}

var dayNames = [...]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

const hoursForm = `days, a span and a time zone, such as "mon-fri 08:00-18:00 Europe/Lisbon" or "sat,sun 22:00-06:00 UTC"`

// ParseHours reads hours; load finds a time zone by its name (time.LoadLocation, outside the core). Empty text is the
// zero Hours.
func ParseHours(text string, load func(string) (*time.Location, error)) (Hours, error) {
	if text == "" {
		return Hours{}, nil
	}
	bad := fmt.Errorf("%.60q are not hours; allowed: %s", text, hoursForm)
	parts := strings.Split(text, " ")
	if len(parts) != 3 {
		return Hours{}, bad
	}
	days, ok := parseDays(parts[0])
	begin, end, found := strings.Cut(parts[1], "-")
	from, fromOK := parseMinute(begin)
	to, toOK := parseMinute(end)
	if !ok || !found || !fromOK || !toOK || from == to || from == dayMinutes || parts[2] == "Local" || parts[2] == "" {
		return Hours{}, bad
	}
	zone, err := load(parts[2])
	if err != nil {
		return Hours{}, fmt.Errorf("%.60q is not a time zone, such as Europe/Lisbon or UTC", parts[2])
	}
	return Hours{days: days, from: from, to: to, zone: zone}, nil
}

const dayMinutes = 24 * 60

// parseMinute reads hh:mm, up to 24:00.
func parseMinute(text string) (int, bool) {
	if len(text) != 5 || text[2] != ':' {
		return 0, false
	}
	for _, i := range [...]int{0, 1, 3, 4} {
		if text[i] < '0' || text[i] > '9' {
			return 0, false
		}
	}
	hour, minute := int(text[0]-'0')*10+int(text[1]-'0'), int(text[3]-'0')*10+int(text[4]-'0')
	return hour*60 + minute, minute < 60 && hour*60+minute <= dayMinutes
}

// parseDays reads "mon-fri", "sat,sun", "mon" or "daily".
func parseDays(text string) (days uint8, ok bool) {
	if text == "daily" {
		return 0x7f, true
	}
	for part := range strings.SplitSeq(text, ",") {
		first, last, isRange := strings.Cut(part, "-")
		begin, beginOK := dayOf(first)
		end := begin
		endOK := true
		if isRange {
			end, endOK = dayOf(last)
		}
		if !beginOK || !endOK {
			return 0, false
		}
		for day := begin; ; day = (day + 1) % 7 {
			days |= 1 << day
			if day == end {
				break
			}
		}
	}
	return days, true
}

func dayOf(name string) (int, bool) {
	for day, known := range dayNames {
		if known == name {
			return day, true
		}
	}
	return 0, false
}

// Contain reports whether a moment is in the hours.
func (h Hours) Contain(t time.Time) bool {
	if h.zone == nil {
		return true
	}
	local := t.In(h.zone)
	minute, day := local.Hour()*60+local.Minute(), int(local.Weekday())
	if h.from < h.to {
		return h.on(day) && minute >= h.from && minute < h.to
	}
	return h.on(day) && minute >= h.from || h.on((day+6)%7) && minute < h.to
}

func (h Hours) on(day int) bool { return h.days&(1<<day) != 0 }

func (h Hours) location() *time.Location {
	if h.zone == nil {
		return time.UTC
	}
	return h.zone
}

// String writes the hours so that ParseHours reads them back; empty for always.
func (h Hours) String() string {
	if h.zone == nil {
		return ""
	}
	days := "daily"
	if h.days != 0x7f {
		var names []string
		for _, day := range [...]int{1, 2, 3, 4, 5, 6, 0} {
			if h.on(day) {
				names = append(names, dayNames[day])
			}
		}
		days = strings.Join(names, ",")
		if days == "mon,tue,wed,thu,fri" {
			days = "mon-fri"
		}
	}
	return fmt.Sprintf("%s %02d:%02d-%02d:%02d %s", days, h.from/60, h.from%60, h.to/60, h.to%60, h.zone)
}
