package main

import (
	"bufio"
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver of database/sql
)

// servePlain is the plainest program that answers the client: it lets everybody in, and
// has a record on disk before it answers: in a file, or as a row of a database of SQLite.
func servePlain(dir, records string) error {
	if err := plainUDP(radiusPort, plainLogin); err != nil {
		return err
	}
	write, err := map[string]func(string) (func([][]byte) error, error){"file": toFile, "sqlite": toSQLite}[records](
		dir)
	if err != nil {
		return err
	}
	kept := &together{write: write}
	if err := plainUDP(recordPort, func(packet []byte) []byte {
		if kept.keep(packet) != nil {
			return nil
		}
		return response(5, packet, nil)
	}); err != nil {
		return err
	}
	l, err := net.Listen("tcp", net.JoinHostPort(serverAt, fmt.Sprint(tacacsPort)))
	if err != nil {
		return err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go plainTCP(conn)
		}
	}()
	fmt.Fprintln(os.Stderr, "ready")
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, os.Interrupt)
	<-stop
	return nil
}

// plainUDP answers one port, one packet after another; of records many are answered at
// once, for they wait for the disk.
func plainUDP(port int, answer func([]byte) []byte) error {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(serverAt), Port: port})
	if err != nil {
		return err
	}
	go func() {
		b := make([]byte, 4096)
		for {
			n, to, err := conn.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			if port == radiusPort {
				_, _ = conn.WriteToUDPAddrPort(answer(b[:n]), to)
				continue
			}
			packet := append([]byte(nil), b[:n]...)
			go func() {
				if reply := answer(packet); reply != nil {
					_, _ = conn.WriteToUDPAddrPort(reply, to)
				}
			}()
		}
	}()
	return nil
}

// response makes an answer with its authenticator, RFC 2865 section 3.
func response(code byte, request, attributes []byte) []byte {
	b := make([]byte, 20, 64)
	b[0], b[1] = code, request[1]
	copy(b[4:], request[4:20])
	b = append(b, attributes...)
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	sum := md5.Sum(append(b[:len(b):len(b)], sharedKey...))
	copy(b[4:], sum[:])
	return b
}

// plainLogin accepts, with a Service-Type and a Message-Authenticator.
func plainLogin(request []byte) []byte {
	b := attribute(nil, 6, []byte{0, 0, 0, 6})
	b = attribute(b, 80, make([]byte, 16))
	whole := make([]byte, 20, 64)
	whole[0], whole[1] = 2, request[1]
	copy(whole[4:], request[4:20])
	whole = append(whole, b...)
	binary.BigEndian.PutUint16(whole[2:], uint16(len(whole)))
	mac := hmac.New(md5.New, []byte(sharedKey))
	mac.Write(whole)
	copy(b[len(b)-16:], mac.Sum(nil))
	return response(2, request, b)
}

// together writes what waits at the same time in one go.
type together struct {
	write   func([][]byte) error
	mu      sync.Mutex
	waiting [][]byte
	group   *group
}

// toFile appends records to a file and syncs it.
func toFile(dir string) (func([][]byte) error, error) {
	file, err := os.OpenFile(filepath.Join(dir, "plain.records"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	return func(some [][]byte) error {
		if _, err := file.Write(bytes.Join(some, nil)); err != nil {
			return err
		}
		return file.Sync()
	}, nil
}

// toSQLite inserts records as rows with the fields of a record of the ledger, those that
// wait together in one transaction.
func toSQLite(dir string) (func([][]byte) error, error) {
	path := filepath.Join(dir, fmt.Sprintf("plain-%d.db", os.Getpid()))
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(`CREATE TABLE records (sequence INTEGER PRIMARY KEY, time INTEGER, node TEXT, kind TEXT,
		person TEXT, device TEXT, access TEXT, origin TEXT, level INTEGER, result TEXT, command TEXT, reason TEXT,
		session TEXT,
		protocol TEXT, rule TEXT, returned TEXT)`); err != nil {
		return nil, err
	}
	insert, err := db.Prepare(`INSERT INTO records (time, node, kind, person, device, access, origin, level, result,
		command, reason, session, protocol, rule, returned) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return nil, err
	}
	return func(some [][]byte) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		row := tx.Stmt(insert)
		now := time.Now().UnixNano()
		for _, packet := range some {
			said := attributesOf(packet)
			if _, err := row.Exec(now, "gate", "session-start", string(said[1]), clientAt, "ssh", string(said[31]), 15,
				"recorded", "", "recorded", string(said[44]), "radius", "", ""); err != nil {
				return errors.Join(err, tx.Rollback())
			}
		}
		return tx.Commit()
	}, nil
}

// attributesOf are the attributes of a packet by their type, RFC 2865 section 5.
func attributesOf(packet []byte) map[byte][]byte {
	all := map[byte][]byte{}
	for rest := packet[20:]; len(rest) >= 2 && int(rest[1]) >= 2 && int(rest[1]) <= len(rest); rest = rest[rest[1]:] {
		all[rest[0]] = rest[2:rest[1]]
	}
	return all
}

// group is what is written in one go.
type group struct {
	once sync.Once
	err  error
}

var disk sync.Mutex

func (t *together) keep(b []byte) error {
	t.mu.Lock()
	if t.group == nil {
		t.group = &group{}
	}
	mine := t.group
	t.waiting = append(t.waiting, b)
	t.mu.Unlock()
	mine.once.Do(func() {
		disk.Lock()
		defer disk.Unlock()
		t.mu.Lock()
		some := t.waiting
		t.waiting, t.group = nil, nil
		t.mu.Unlock()
		mine.err = t.write(some)
	})
	return mine.err
}

func plainTCP(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	in := bufio.NewReader(conn)
	for {
		var header [12]byte
		if _, err := io.ReadFull(in, header[:]); err != nil {
			return
		}
		body := make([]byte, min(binary.BigEndian.Uint32(header[8:]), 1<<16))
		if _, err := io.ReadFull(in, body); err != nil {
			return
		}
		obfuscate(header[:], body)
		reply := []byte{1, 0, 0, 0, 0, 0}
		header[2]++
		binary.BigEndian.PutUint32(header[8:], uint32(len(reply)))
		obfuscate(header[:], reply)
		if _, err := conn.Write(append(header[:], reply...)); err != nil || header[3]&4 == 0 {
			return
		}
	}
}
