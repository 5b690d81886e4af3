package front

import (
	"context"
	"net/http"
	"net/netip"
	"time"

	"github.com/gin-gonic/gin"
)

// Limits of a request where nobody is signed in.
const (
	publicBody   = 64 << 10         // bytes that its body may hold
	publicWithin = 15 * time.Second // in which it must arrive; its answer must be taken in twice that
	publicQueue  = 10 * time.Second // that it waits while others are worked on
)

// admitStranger bounds a request of somebody who has not proved who they are: how much it sends, how long it
// takes, and how many there are at once. It has answered where it is refused.
func (g *gate) admitStranger(c *gin.Context) (give func(), ok bool) {
	if c.Request.ContentLength > publicBody {
		c.Header("Connection", "close")
		Fail(c, tooLarge(publicBody))
		return nil, false
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), publicQueue)
	defer cancel()
	taken, ok := g.doors.Take(ctx, clientAddress(c))
	if !ok {
		busy := Problem(http.StatusServiceUnavailable, "The service is busy.",
			"Too much is asked of it at once from where you are. Try again in a moment.")
		busy.RetryAfter = int(publicQueue.Seconds())
		c.Header("Connection", "close")
		Fail(c, busy)
		return nil, false
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, publicBody)
	control := http.NewResponseController(c.Writer)
	control.SetReadDeadline(time.Now().Add(publicWithin))
	control.SetWriteDeadline(time.Now().Add(2 * publicWithin))
	return func() {
		control.SetWriteDeadline(time.Time{}) // the connection may be used again; what it reads next has its own
		taken()
	}, true
}

// clientAddress is whom a request comes from: the address of its connection, or what a trusted proxy says.
func clientAddress(c *gin.Context) netip.Addr {
	a, err := netip.ParseAddr(c.ClientIP())
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap()
}
