package guard

import (
	"container/list"
	"io"
	"net/netip"
	"sync"
)

// Conns holds connections to a bound in all and of one client. Where all places
// are taken, the connection that has been quiet the longest gives its place up:
// connections that nothing comes from keep nobody out. The zero value is ready.
type Conns struct {
	taken Shares
	mu    sync.Mutex // guards quiet
	quiet list.List  // of *Conn, the longest quiet first
}

// Conn is a connection with a place.
type Conn struct {
	of     *Conns
	client netip.Addr
	conn   io.Closer
	at     *list.Element
	once   sync.Once
}

// Take gives a connection a place. It is nil where its client has too many.
func (c *Conns) Take(client netip.Addr, conn io.Closer, most, mostOfOne int) *Conn {
	for !c.taken.Take(client, most, mostOfOne) {
		if !c.evict(client, mostOfOne) {
			return nil
		}
	}
	one := &Conn{of: c, client: client, conn: conn}
	c.mu.Lock()
	defer c.mu.Unlock()
	one.at = c.quiet.PushBack(one)
	return one
}

// evict ends the connection that has been quiet the longest. It reports false
// where that would not help a client: it has as many as it may.
func (c *Conns) evict(client netip.Addr, mostOfOne int) bool {
	if c.taken.Of(client) >= mostOfOne {
		return false
	}
	c.mu.Lock()
	front := c.quiet.Front()
	c.mu.Unlock()
	if front == nil {
		return false
	}
	old := front.Value.(*Conn)
	_ = old.conn.Close()
	old.Give()
	return true
}

// Heard notes that something whole came from the connection.
func (c *Conn) Heard() {
	c.of.mu.Lock()
	defer c.of.mu.Unlock()
	c.of.quiet.MoveToBack(c.at) // nothing happens to one that gave its place up
}

// Give gives the place up. It may be called several times.
func (c *Conn) Give() {
	c.once.Do(func() {
		c.of.mu.Lock()
		c.of.quiet.Remove(c.at)
		c.of.mu.Unlock()
		c.of.taken.Give(c.client)
	})
}
