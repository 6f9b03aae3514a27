package dispatch

import (
	"fmt"
	"regexp"
	"strings"
	"time"
)

// The streams, and the subjects of all that is said. Those with a name in them can be
// given to one worker alone.
const (
	ordersStream  = "LANTERN-ORDERS"
	reportsStream = "LANTERN-REPORTS"

	subjectStop     = "lantern.stop"   // an attempt that is to end
	subjectParcel   = "lantern.parcel" // asks for a piece of a parcel
	subjectOrders   = "lantern.order." // QUEUE.RUN.TASK.ATTEMPT
	subjectReports  = "lantern.report."
	subjectStarted  = "lantern.started."
	subjectHello    = "lantern.hello."
	subjectLog      = "lantern.log."
	subjectLogged   = "lantern.logged." // a log has grown that a worker writes by itself
	subjectGreet    = "lantern.greet."  // a worker is to say hello now
	subjectGreetAll = "lantern.greet"   // all of them are
	subjectTold     = "lantern.recorded."
	subjectHeir     = "lantern.heir." // a worker follows others that have ended
)

func (o Order) subject() string { return subjectOrders + o.queue() + "." + o.AttemptID.String() }

// Speech are the subjects to which a worker of that name speaks, and those on which it
// hears: in its own name alone, and what is for it or for all. It may take orders of any
// queue.
func Speech(name string) (says, hears []string) {
	return []string{subjectReports + name, subjectStarted + name, subjectHello + name, subjectLog + name, subjectClaim + name, subjectBack + name, subjectHeir + name, subjectParcel,
			"$JS.API.CONSUMER.MSG.NEXT." + ordersStream + ".>", "$JS.ACK." + ordersStream + ".>"},
		[]string{subjectStop, subjectTold + name, subjectGreetAll, subjectGreet + name, "_INBOX." + name + ".>"}
}

// The times of the conversation.
const (
	HelloEvery      = 5 * time.Second
	SilentAfter     = 3 * HelloEvery // without a hello, people are told that a worker is silent
	DefaultPatience = time.Minute    // after which a worker that is not heard is taken for gone
)

var namePattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$`)

// CheckName tells what is wrong with the name of a worker or a queue.
func CheckName(name string) error {
	if !namePattern.MatchString(name) {
		return fmt.Errorf("%q is no name: write letters, digits and hyphens, as in field-1", name)
	}
	return nil
}

// NameOf makes a name of a text such as a host's.
func NameOf(text string) string {
	name := regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(text, "-")
	name = strings.Trim(name, "-")
	if name == "" {
		return "local"
	}
	return name[:min(len(name), 63)]
}
