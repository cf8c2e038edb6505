package api

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/history"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// mostMoved is how large a file of devices may be.
const mostMoved = 64 << 30

// movingRoutes are the operations by which devices go from one service to another.
func (s *Server) movingRoutes() []route {
	const admin = core.Admin
	return []route{
		{"GET", "/own-recipient", admin, s.ownRecipient, about{id: "getOwnRecipient", tag: "devices", does: "To whom devices are sealed that this service is to take over", gives: client.OwnRecipient{}}},
		{"POST", "/device-transfer-out", admin, s.handOver, about{id: "transferDevicesOut", tag: "devices", does: "Write devices out, with their credentials and all their versions, for another service", more: "Nothing is changed here: remove them once the other one looks after them.", takes: client.NewHandOver{}, mime: "application/octet-stream", gives: ""}},
		{"POST", "/device-transfer-in", admin, s.takeOver, about{id: "transferDevicesIn", tag: "devices", stream: mostMoved, does: "Take over devices that another service handed over", more: "The body is the file. Names, addresses and serial numbers are matched first; if one clashes, the answer is 409 and nothing is taken. With preview only the table is given.", query: []param{{"preview", "boolean", false, "only say what would become of them"}, {"rename", "string", false, "names there and here, as a=b,c=d"}, {"leave", "string", false, "names there that are left out, separated by commas"}}, as: "application/octet-stream", takes: "", gives: client.Page[client.Coming]{}}},
	}
}

func (s *Server) ownRecipient(c *gin.Context) {
	to, err := s.History.Recipient(c.Request.Context())
	answer(c, 200, client.OwnRecipient{Recipient: to}, err)
}

func (s *Server) handOver(c *gin.Context) {
	var in client.NewHandOver
	if !readBody(c, &in) {
		return
	}
	devices, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	if len(in.Recipients) == 0 {
		fail(c, wrong("recipients", "nobody is named to whom they are sealed", "the other service says to whom: magpie device recipient"))
		return
	}
	ctx, a := c.Request.Context(), actor(c)
	if err := s.wrote(ctx, a, "devices handed over", strings.Join(in.Selector, " "), fmt.Sprintf("%s, sealed to %s", core.Count(len(devices), "device", "devices"), strings.Join(in.Recipients, ", "))); err != nil {
		fail(c, problem(err))
		return
	}
	leaves(c, "magpie_"+s.Clock().UTC().Format("20060102T150405Z")+".devices.age")
	if err := s.History.HandOver(ctx, a, devices, in.Recipients, c.Writer); err != nil {
		brokenOff(c, "handing devices over", err, exportProblem)
	}
}

var wiredComing = wire.Make[client.Coming, history.Coming]()

func (s *Server) takeOver(c *gin.Context) {
	how := history.TakeOver{Rename: map[string]string{}, Look: c.Query("preview") == "true"}
	for pair := range strings.SplitSeq(c.Query("rename"), ",") {
		was, is, ok := strings.Cut(pair, "=")
		if !ok && pair != "" {
			fail(c, wrong("rename", fmt.Sprintf("%q names no device there and here", pair), "write it as there=here"))
			return
		}
		if ok {
			how.Rename[was] = is
		}
	}
	for name := range strings.SplitSeq(c.Query("leave"), ",") {
		if name != "" {
			how.Leave = append(how.Leave, name)
		}
	}
	file, done, err := s.History.SpoolFile()
	if err != nil {
		fail(c, problem(err))
		return
	}
	defer done()
	if _, err := io.Copy(file, c.Request.Body); err != nil {
		fail(c, spoolProblem(err))
		return
	}
	table, err := s.History.TakeOver(c.Request.Context(), actor(c), func() (io.ReadCloser, error) { return os.Open(file.Name()) }, how)
	if err != nil {
		fail(c, movingProblem(err))
		return
	}
	c.JSON(200, client.Page[client.Coming]{Items: wire.List(wiredComing, table)})
}

func movingProblem(err error) *client.Problem {
	switch {
	case errors.Is(err, history.ErrClash):
		return &client.Problem{Status: http.StatusConflict, Title: "names clash", Detail: err.Error(), Next: "look at the table with preview, then rename or leave out; nothing was taken"}
	case errors.Is(err, history.ErrNoMove), errors.Is(err, history.ErrCutOff), errors.Is(err, store.ErrNewer):
		return bad(err.Error(), "nothing was taken")
	}
	return problem(err)
}

func spoolProblem(err error) *client.Problem {
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return &client.Problem{Status: 413, Title: "too large", Detail: fmt.Sprintf("the body has more than %d GiB", large.Limit>>30), Next: "send less at a time"}
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, io.ErrUnexpectedEOF):
		return &client.Problem{Status: 408, Title: "cut off", Detail: "the body stopped coming", Next: "send it again"}
	}
	return problem(err)
}
