package cli

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/match"
)

func (a *app) eventCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "event",
		Short: "Send an event, or show one",
		Long: `Send an event to the service, or show one that it has. An event is something that
happened outside, in the CloudEvents 1.0 envelope; starts and waits are for events of
a type, from a source, about a subject. One with the same source and id is answered
once, however often it comes.`,
		Example: `  lantern event send storm.warning --subject upper --data '{"level": 2.7}'
  lantern event show 17`,
	}
	c.AddCommand(a.eventSendCommand(), a.eventShowCommand())
	return c
}

func (a *app) eventSendCommand() *cobra.Command {
	e := match.Event{}
	data, from := "", ""
	c := &cobra.Command{
		Use:   "send TYPE",
		Short: "Send an event",
		Long: `Send an event. Without --id it gets one of its own; give one where the same event
might be sent again. --data is JSON, or @FILE with JSON, or - for standard input.
With --from whole events are read from a file: one in the JSON event format of
CloudEvents, or a list of them.

An update of a data set that is made elsewhere is told as lantern.dataset.updated,
with the data set as its subject.`,
		Example: `  lantern event send storm.warning --subject upper --data '{"level": 2.7}'
  lantern event send lantern.dataset.updated --subject permits --data '{"rows": 12}'
  lantern event send --from events.json`,
		Args: usage(cobra.MaximumNArgs(1)),
		RunE: func(c *cobra.Command, args []string) error {
			events, err := a.eventsToSend(e, args, data, from)
			if err != nil {
				return err
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			received, err := service.SendEvents(c.Context(), events)
			if err != nil {
				return err
			}
			return a.print(received, func() error {
				for _, r := range received.Events {
					note := ""
					if r.Known {
						note = ", which had come before: nothing was done again"
					}
					fmt.Fprintf(a.out, "event %d: %s from %s%s\n", r.Number, r.ID, r.Source, note)
				}
				return nil
			})
		},
	}
	c.Flags().StringVar(&e.ID, "id", "", "its id (default one of its own)")
	c.Flags().StringVar(&e.Source, "source", "/terminal/"+personName(), "its source")
	c.Flags().StringVar(&e.Subject, "subject", "", "what it is about")
	c.Flags().StringVarP(&data, "data", "d", "", "its data: JSON, @FILE or -")
	c.Flags().StringVar(&from, "from", "", "a file with whole events, or - for standard input")
	c.MarkFlagsMutuallyExclusive("from", "data")
	c.MarkFlagsMutuallyExclusive("from", "id")
	return c
}

// eventsToSend reads what the command was told to send.
func (a *app) eventsToSend(e match.Event, args []string, data, from string) (events []match.Event, err error) {
	if (from == "") == (len(args) == 0) {
		return nil, &usageError{fmt.Errorf("name the type of the event, or a file with --from")}
	}
	if from != "" {
		text, err := a.read(from)
		if err != nil {
			return nil, err
		}
		if json.Unmarshal(text, &events) != nil {
			events = make([]match.Event, 1)
			if err := json.Unmarshal(text, &events[0]); err != nil {
				return nil, &usageError{fmt.Errorf("%s: %w; write one event in the JSON event format of CloudEvents, or a list of them", from, err)}
			}
		}
		return events, nil
	}
	e.Type, e.Time = args[0], time.Now()
	if e.ID == "" {
		e.ID = rand.Text()
	}
	if data == "" {
		return []match.Event{e}, nil
	}
	text := []byte(data)
	if name, isFile := strings.CutPrefix(data, "@"); isFile || data == "-" {
		if text, err = a.read(name); err != nil {
			return nil, err
		}
	}
	if err := json.Unmarshal(text, &e.Data); err != nil {
		return nil, &usageError{fmt.Errorf("--data is not JSON: %w; write it as '{\"level\": 2.7}'", err)}
	}
	e.DataType = "application/json"
	return []match.Event{e}, nil
}

// read is what a file holds, or with - standard input.
func (a *app) read(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.in)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, &usageError{err}
	}
	return text, nil
}

func (a *app) eventShowCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "show NUMBER",
		Short:   "Show an event, and what it was taken for",
		Long:    "Show an event whole, with what it was taken for: the runs that it made, the waits that it released, or why it came to nothing.",
		Example: `  lantern event show 17`,
		Args:    usage(cobra.ExactArgs(1)),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return &usageError{fmt.Errorf("%q is not the number of an event; lantern events lists them", args[0])}
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			e, err := service.Event(c.Context(), n)
			if err != nil {
				return err
			}
			return a.print(e, func() error {
				p := painter(a.out)
				text, err := json.MarshalIndent(e.Event, "", "  ")
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s  %s  %s\n%s\n", p.strong(fmt.Sprintf("event %d", e.Number)), when(&e.Received), p.dim("by "+e.Via), text)
				if len(e.Answers) == 0 {
					fmt.Fprintln(a.out, p.dim("Nobody wanted it."))
				}
				for _, answer := range e.Answers {
					fmt.Fprintln(a.out, answerInWords(p, answer))
				}
				return nil
			})
		},
	}
}

func answerInWords(p paint, answer client.EventAnswer) string {
	switch answer.State {
	case "run":
		return "made " + answer.Run
	case "wait":
		return "released " + answer.Task + " of " + answer.Run
	case "gathering":
		return p.tinted(violet, flowWaiting) + " gathered for " + answer.Workflow
	case "kept":
		return p.tinted(violet, flowWaiting) + " kept until " + answer.Workflow + " is resumed"
	}
	return p.tinted(vermilion, "nothing") + " of " + answer.Workflow + ": " + answer.Reason
}

const flowWaiting = "◌"

func (a *app) eventsCommand() *cobra.Command {
	f := client.EventsFilter{Limit: 30}
	refused := false
	c := &cobra.Command{
		Use:   "events",
		Short: "List what came in, and what it was taken for",
		Long: `List the events that came in, newest first, with what each was taken for. With --own
also those that the service itself told: runs that ended, data sets that were updated,
files that arrived. With --refused, what was refused at the door and why.`,
		Example: `  lantern events
  lantern events --type 'storm.*'
  lantern events --unwanted
  lantern events --refused`,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if refused {
				return a.listRefusals(c, service)
			}
			page, err := service.Events(c.Context(), f)
			if err != nil {
				return err
			}
			return a.print(page, func() error {
				if len(page.Events) == 0 {
					fmt.Fprintln(a.out, "There are none. Send one: lantern event send TYPE --data '{…}'")
					return nil
				}
				p := painter(a.out)
				var rows [][]string
				for _, e := range page.Events {
					var answers []string
					for _, answer := range e.Answers {
						answers = append(answers, answerInWords(p, answer))
					}
					said := p.dim("nobody wanted it")
					if len(answers) > 3 {
						answers = append(answers[:3], fmt.Sprintf("and %d more", len(answers)-3))
					}
					if answers != nil {
						said = strings.Join(answers, ", ")
					}
					rows = append(rows, []string{fmt.Sprint(e.Number), when(&e.Received), e.Type, orDash(shortened(e.Subject, 40)), e.Via, said})
				}
				p.table(a.out, []string{"event", "came", "type", "subject", "by", "was taken for"}, rows)
				if page.Next != "" {
					fmt.Fprintln(a.out, p.dim("There are more; see them with --before "+page.Next))
				}
				return nil
			})
		},
	}
	c.Flags().StringVar(&f.Type, "type", "", "only of this type; storm.* means all that begin so")
	c.Flags().StringVar(&f.Source, "source", "", "only from this source")
	c.Flags().StringVar(&f.Subject, "subject", "", "only about this")
	c.Flags().BoolVar(&f.Unwanted, "unwanted", false, "only those that nobody wanted")
	c.Flags().BoolVar(&f.Own, "own", false, "also what the service itself told")
	c.Flags().BoolVar(&refused, "refused", false, "what was refused at the door")
	c.Flags().StringVar(&f.Before, "before", "", "those before this one")
	c.Flags().IntVar(&f.Limit, "limit", f.Limit, "how many, up to 500")
	return c
}

func (a *app) listRefusals(c *cobra.Command, service *client.Client) error {
	list, err := service.Refusals(c.Context())
	if err != nil {
		return err
	}
	return a.print(client.Refusals{Refusals: list}, func() error {
		if len(list) == 0 {
			fmt.Fprintln(a.out, "Nothing was refused.")
			return nil
		}
		var rows [][]string
		for _, r := range list {
			rows = append(rows, []string{when(&r.At), r.Via, r.Reason})
		}
		painter(a.out).table(a.out, []string{"at", "door", "why"}, rows)
		return nil
	})
}

func (a *app) hookCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "hook",
		Short: "List the hooks: addresses for senders that know nothing of events",
		Long: `List the hooks, make one, or remove one. A hook is an address that takes what a
sender posts, checks its signature, and makes an event of it. What it refuses is
listed with its reason: lantern events --refused.`,
		Example: `  lantern hook
  lantern hook add gauge-net
  lantern hook remove gauge-net`,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			hooks, err := service.Hooks(c.Context())
			if err != nil {
				return err
			}
			return a.print(client.Hooks{Hooks: hooks}, func() error {
				if len(hooks) == 0 {
					fmt.Fprintln(a.out, "There are none. Make one: lantern hook add NAME")
					return nil
				}
				var rows [][]string
				for _, h := range hooks {
					kind := "hook." + h.Name
					if h.Map["type"] != "" {
						kind = h.Map["type"]
					}
					rows = append(rows, []string{h.Name, a.server + h.Path, kind, when(h.Created), h.CreatedBy})
				}
				painter(a.out).table(a.out, []string{"hook", "address", "type of its events", "made", "by"}, rows)
				return nil
			})
		},
	}
	c.AddCommand(a.hookAddCommand(), &cobra.Command{
		Use:     "remove NAME",
		Short:   "Make the address of a hook worthless",
		Long:    "Make the address of a hook worthless. The events that came by it stay.",
		Example: `  lantern hook remove gauge-net`,
		Args:    usage(cobra.ExactArgs(1)),
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if err := service.RemoveHook(c.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() error {
				_, err := fmt.Fprintf(a.out, "the hook %s is closed\n", args[0])
				return err
			})
		},
	})
	return c
}

func (a *app) hookAddCommand() *cobra.Command {
	var settings client.HookSettings
	timeHeader := ""
	maps := []string{}
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a hook, with a secret of its own",
		Long: `Make a hook. It prints the address to post to and the secret to sign with; the secret
is not shown again. Made again, a hook gets a new one.

A request is signed with HMAC and SHA-256, in hexadecimal, over STAMP.BODY, where
STAMP is what the time header holds (Unix seconds, or RFC 3339) and may be five
minutes off. For a sender that has no time header, --time-header "" takes the
signature of the body alone.

--map says what the event is made of, in expressions on body and headers: its id,
source, type, subject, time and data. Without them its type is hook.NAME, its data
the whole body, and its id the hash of what was signed.`,
		Example: `  lantern hook add gauge-net
  lantern hook add gauge-net --map 'type=gauge.${body.kind}' --map 'subject=${body.station}' --map 'id=${body.message}'
  lantern hook add partner --signature-header X-Signature --signature-prefix sha256= --time-header ""`,
		Args: usage(cobra.ExactArgs(1)),
		RunE: func(c *cobra.Command, args []string) error {
			if c.Flags().Changed("time-header") {
				settings.TimeHeader = &timeHeader
			}
			settings.Map = map[string]string{}
			for _, m := range maps {
				name, value, ok := strings.Cut(m, "=")
				if !ok {
					return &usageError{fmt.Errorf("--map %s: write it as ATTRIBUTE=VALUE, as in 'type=gauge.${body.kind}'", m)}
				}
				settings.Map[name] = value
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			h, err := service.AddHook(c.Context(), args[0], settings)
			if err != nil {
				return err
			}
			return a.print(h, func() error {
				p := painter(a.out)
				fmt.Fprintf(a.out, "%s %s\n%s  %s\n", p.dim("post to"), a.server+h.Path, p.dim("secret"), h.Secret)
				signed := "the body"
				if h.TimeHeader != "" {
					signed = "STAMP.BODY"
					fmt.Fprintf(a.out, "%s   %s: STAMP, in Unix seconds or RFC 3339, at most %s off\n", p.dim("stamp"), h.TimeHeader, h.Tolerance)
				}
				fmt.Fprintf(a.out, "%s    %s: %sHEX, of HMAC-SHA-256 over %s\n", p.dim("sign"), h.SignatureHeader, h.SignaturePrefix, signed)
				fmt.Fprintln(a.out, p.dim("The secret is not shown again."))
				return nil
			})
		},
	}
	c.Flags().StringVar(&settings.Secret, "secret", "", "the secret (default one is made)")
	c.Flags().StringVar(&settings.SignatureHeader, "signature-header", "", "header of the signature (default Lantern-Signature)")
	c.Flags().StringVar(&settings.SignaturePrefix, "signature-prefix", "", "what stands before the signature, as in sha256=")
	c.Flags().StringVar(&timeHeader, "time-header", "", "header of the time stamp (default Lantern-Timestamp; \"\" for none)")
	c.Flags().StringVar(&settings.Tolerance, "tolerance", "", "how far the time stamp may be off (default 5m)")
	c.Flags().StringArrayVar(&maps, "map", nil, "an attribute of the event, ATTRIBUTE=VALUE")
	c.Flags().Float64Var(&settings.PerSecond, "per-second", 0, "requests a second that it lets in (default 50)")
	return c
}
