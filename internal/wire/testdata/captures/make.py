#!/usr/bin/env python3
"""Makes captures of logins that went wrong, or well, with nothing of the program: the octets of RADIUS
(RFC 2865, 2866, 3579) and TACACS+ (RFC 8907) and the frames around them are put together here.
Each case is a folder NAME with traffic.pcap, its own site.yaml where it is not the one beside this file, and expect.json: first, the causes that may stand
first ("healthy" for a login that is well), and where, a text that the first one must have.

    python3 make.py        writes all cases beside this file
"""
import hashlib, hmac, json, os, random, struct

HERE = os.path.dirname(os.path.abspath(__file__))
T0 = 1795683600.0  # 2026-11-26 09:00 UTC

# ---- frames
def csum(b):
    b += b"\0" * (len(b) % 2)
    n = sum(struct.unpack("!%dH" % (len(b) // 2), b))
    while n >> 16: n = (n & 0xffff) + (n >> 16)
    return ~n & 0xffff

def a4(s): return bytes(int(x) for x in s.split("."))

class Wire:
    def __init__(self, tunnel=None, cut=0):
        self.t, self.frames, self.id, self.sport, self.tunnel, self.cut = T0, [], 100, 41000, tunnel, cut
    def wait(self, s): self.t += s; return self
    def port(self): self.sport += 1; return self.sport
    def frame(self, kind, b):
        f = b"\2\0\0\0\0\2" + b"\2\0\0\0\0\1" + struct.pack("!H", kind) + b
        if self.tunnel == "gre" and kind == 0x800:  # a mirrored port: GRE with a whole Ethernet frame (RFC 1701 style)
            f = b"\2\0\0\0\0\4" + b"\2\0\0\0\0\3" + struct.pack("!H", 0x800) + self.ip4(47, "192.0.2.200", "192.0.2.201",
                struct.pack("!HH", 0, 0x6558) + f)
        if self.tunnel == "vxlan" and kind == 0x800:
            u = struct.pack("!BBHI", 8, 0, 0, 77 << 8) + f
            f = b"\2\0\0\0\0\4" + b"\2\0\0\0\0\3" + struct.pack("!H", 0x800) + self.ip4(17, "192.0.2.200", "192.0.2.201",
                struct.pack("!HHHH", 50000, 4789, 8 + len(u), 0) + u)
        if self.tunnel == "vlan": f = f[:12] + struct.pack("!HH", 0x8100, 42) + f[12:]
        self.frames.append((self.t, f)); self.t += 0.0002
    def ip4(self, proto, a, b, data, df=0x4000, offset=0):
        self.id += 1
        h = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(data), self.id & 0xffff, df | offset, 61, proto, 0) + a4(a) + a4(b)
        return h[:10] + struct.pack("!H", csum(h)) + h[12:] + data
    def udp(self, a, pa, b, pb, data):
        u = struct.pack("!HHHH", pa, pb, 8 + len(data), 0) + data
        p = self.ip4(17, a, b, u); self.frame(0x800, p); return p
    def icmp(self, by, to, about, code=3, mtu=0):
        m = struct.pack("!BBHHH", 3, code, 0, 0, mtu) + about[:28]
        m = m[:2] + struct.pack("!H", csum(m)) + m[4:]
        self.frame(0x800, self.ip4(1, by, to, m))
    def arp(self, who, asked, answer=False):
        op, s, t = (2, asked, who) if answer else (1, who, asked)
        self.frame(0x806, struct.pack("!HHBBH", 1, 0x800, 6, 4, op) + b"\2\0\0\0\0\1" + a4(s) + b"\0" * 6 + a4(t))
    def save(self, path):
        with open(path, "wb") as f:
            f.write(struct.pack("<IHHiIII", 0xa1b2c3d4, 2, 4, 0, 0, 65535, 1))
            for t, b in self.frames:
                kept = b[:self.cut] if self.cut else b
                f.write(struct.pack("<IIII", int(t), int(round((t % 1) * 1e6)) % 1000000, len(kept), len(b)) + kept)

class Tcp:
    def __init__(self, w, a, b, pb=49, shake=True):
        self.w, self.a, self.b, self.pa, self.pb, self.n = w, a, b, w.port(), pb, [7000, 90000]
        if shake: self.seg(0, "S"); w.wait(.001); self.seg(1, "SA"); w.wait(.001); self.seg(0, "A")
    def seg(self, side, flags, data=b"", new=True):
        bits = sum({"F": 1, "S": 2, "R": 4, "P": 8, "A": 16}[c] for c in flags)
        src, dst, sp, dp = (self.a, self.b, self.pa, self.pb) if side == 0 else (self.b, self.a, self.pb, self.pa)
        h = struct.pack("!HHIIBBHHH", sp, dp, self.n[side], self.n[1 - side] if "A" in flags else 0, 0x50, bits, 29200, 0, 0)
        p = self.w.ip4(6, src, dst, h + data); self.w.frame(0x800, p)
        if new: self.n[side] += len(data) + (1 if "S" in flags or "F" in flags else 0)
        return p
    def say(self, side, data): self.seg(side, "PA", data); self.w.wait(.0004); self.seg(1 - side, "A"); return self
    def close(self, first=0): self.seg(first, "FA"); self.w.wait(.0003); self.seg(1 - first, "FA"); self.seg(first, "A"); return self

# ---- RADIUS
def at(t, v):
    if isinstance(v, str): v = v.encode()
    if isinstance(v, int): v = struct.pack("!I", v)
    return bytes([t, len(v) + 2]) + v
def hidden(pw, auth, key):
    pw = pw.encode(); pw += b"\0" * (-len(pw) % 16 or (0 if pw else 16)); out, last = b"", auth
    for i in range(0, len(pw), 16):
        d = hashlib.md5(key.encode() + last).digest(); last = bytes(x ^ y for x, y in zip(pw[i:i + 16], d)); out += last
    return out
class Ask:
    def __init__(self, who, key, ident=1, pw="lantern-9", form="pap", sign=True, nas=None, extra=b""):
        r = random.Random("%s %s %d" % (who, key, ident)); self.id, self.key, self.auth = ident, key, bytes(r.randrange(256) for _ in range(16))
        a = at(1, who) + (at(2, hidden(pw, self.auth, key)) if form == "pap" else at(3, b"\7" + hashlib.md5(b"\7" + pw.encode() + self.auth).digest()))
        if nas: a += at(4, a4(nas))
        a += at(61, 5) + at(31, "192.0.2.77") + extra
        self.b = self.pack(1, a, sign)
    def pack(self, code, a, sign):
        n = 20 + len(a) + (18 if sign else 0); h = struct.pack("!BBH", code, self.id, n) + self.auth
        if sign: a += at(80, hmac.new(self.key.encode(), h + a + at(80, b"\0" * 16), "md5").digest())
        return h + a
class Rec:
    def __init__(self, who, key, ident=1, kind=1):
        self.id, self.key = ident, key; a = at(40, kind) + at(1, who) + at(44, "s-%d" % ident); h = struct.pack("!BBH", 4, ident, 20 + len(a))
        self.auth = hashlib.md5(h + b"\0" * 16 + a + key.encode()).digest(); self.b = h + self.auth + a
def reply(q, code, a=b"", key=None, sign=True, auth=None):
    key, auth = (key or q.key).encode(), auth or q.auth; sign = sign and code != 5
    h = struct.pack("!BBH", code, q.id, 20 + len(a) + (18 if sign else 0))
    if sign: a += at(80, hmac.new(key, h + auth + a + at(80, b"\0" * 16), "md5").digest())
    return h + hashlib.md5(h + auth + a + key).digest() + a
YES, NO, CODE, FULL, LOOK = 2, 3, 11, at(136, 15), at(136, 1)

# ---- TACACS+
def body(sid, key, ver, seq, b):
    pad, last = b"", b""
    while len(pad) < len(b): last = hashlib.md5(struct.pack("!I", sid) + key.encode() + bytes([ver, seq]) + last).digest(); pad += last
    return bytes(x ^ y for x, y in zip(b, pad))
def pkt(kind, seq, sid, b, key, ver=0xc0): return struct.pack("!BBBBII", ver, kind, seq, 0, sid, len(b)) + body(sid, key, ver, seq, b)
def e(s): return s.encode()
def start(u): return bytes([1, 1, 1, 1, len(u), 4, 10, 0]) + e(u) + b"tty1" + b"192.0.2.77"
def cont(s, abort=0): return struct.pack("!HHB", len(s), 0, abort) + e(s)
def said(st, m=""): return struct.pack("!BBHH", st, 0, len(m), 0) + e(m)
def want(u, args): return bytes([6, 1, 1, 1, len(u), 4, 10, len(args)]) + bytes(len(x) for x in args) + e(u) + b"tty1" + b"192.0.2.77" + b"".join(map(e, args))
def got(st, args=()): return struct.pack("!BBHH", st, len(args), 0, 0) + bytes(len(x) for x in args) + b"".join(map(e, args))
def note(u, args): return bytes([2, 6, 1, 1, 1, len(u), 4, 10, len(args)]) + bytes(len(x) for x in args) + e(u) + b"tty1" + b"192.0.2.77" + b"".join(map(e, args))
SID = [1000]
def sid(): SID[0] += 7919; return SID[0]
def login(w, dev, srv, who, key, skey=None, end=1, think=1.0, slow=.002, conn=None, upto=4, close=True):
    s, skey, c = sid(), skey or key, conn or Tcp(w, dev, srv)
    c.say(0, pkt(1, 1, s, start(who), key)); w.wait(slow)
    if upto > 1: c.say(1, pkt(1, 2, s, said(5, "Password: "), skey)); w.wait(think)
    if upto > 2: c.say(0, pkt(1, 3, s, cont("lantern-9"), key)); w.wait(slow)
    if upto > 3: c.say(1, pkt(1, 4, s, said(end), skey))
    if close: w.wait(.001); c.close()
    return c
def session(w, dev, srv, who, key, args=("priv-lvl=15",), st=1):
    s, c = sid(), Tcp(w, dev, srv); c.say(0, pkt(2, 1, s, want(who, ["service=shell", "cmd="]), key)); w.wait(.002)
    c.say(1, pkt(2, 2, s, got(st, args), key)); c.close()
def record(w, dev, srv, who, key, st=1):
    s, c = sid(), Tcp(w, dev, srv); c.say(0, pkt(3, 1, s, note(who, ["task_id=3", "service=shell"]), key)); w.wait(.002)
    c.say(1, pkt(3, 2, s, struct.pack("!HHB", 0, 0, st), key)); c.close()
def well(w, dev=None, who="liv.moen"):
    """a whole login that is well, over TACACS+"""
    dev = dev or PIER; login(w, dev, BOL, who, KT); w.wait(.002); session(w, dev, BOL, who, KT); w.wait(.002); record(w, dev, BOL, who, KT)
def rwell(w, dev=None, who="liv.moen", ident=1):
    dev, p = dev or MAST, w.port(); q = Ask(who, KR, ident); w.udp(dev, p, FAI, 1812, q.b); w.wait(.004); w.udp(FAI, 1812, dev, p, reply(q, YES, FULL))
    w.wait(.002); r = Rec(who, KR, ident); w.udp(dev, p + 1, FAI, 1813, r.b); w.wait(.003); w.udp(FAI, 1813, dev, p + 1, reply(r, 5))

# ---- the site
HASH = "$2b$10$PmeBGyNGo8J0J.MY.0KMKeOI4Krx2OqQvV7GkqQhQ3iq0bJ5xE9me"
KT, KT2, KR, KR2 = "granite-key-5Hn8vB3x", "basalt-key-9Wd4mC7s", "marble-key-2Lp6tY1q", "slate-key-8Zf3jR5k"
PIER, LOCK, MAST, BUOY = "203.0.113.11", "203.0.113.12", "203.0.113.21", "203.0.113.22"
BOL, CLE, FAI, HAW, REG = "198.51.100.31", "198.51.100.32", "198.51.100.41", "198.51.100.42", "198.51.100.60"
def dev(name, kind, addr, l): return "  - {name: %s, kind: %s, addresses: [%s], access: {ssh: {login: %s-login, session: %s-session, record-sessions: %s-record}}, accounts: [harbour], labels: {place: %s}}\n" % (name, kind, addr, l, l, l, "pier" if name[0] in "pm" else "lock")
def site(extra="", more=""):
    return """site: Cliff Ferry Company
keys: {granite: clear %s, basalt: clear %s, marble: clear %s, slate: clear %s}
servers:
  - {name: bollard, protocol: tacacs, address: %s, key: granite, timeout: 5s}
  - {name: cleat, protocol: tacacs, address: %s, key: basalt, timeout: 5s}
  - {name: fairlead, protocol: radius, address: %s, key: marble, timeout: 3s, attempts: 2}
  - {name: hawser, protocol: radius, address: %s, key: slate, timeout: 3s, attempts: 2}
%sgroups:
  - {name: tac, servers: [bollard, cleat]}
  - {name: rad, servers: [fairlead, hawser]}
lists:
  - {name: t-login, authenticate: login, methods: [group tac, local]}
  - {name: t-session, authorize: session, methods: [group tac, local]}
  - {name: t-record, account: sessions, when: start and stop, methods: [group tac]}
  - {name: r-login, authenticate: login, methods: [group rad, local]}
  - {name: r-session, authorize: session, methods: [group rad, local]}
  - {name: r-record, account: sessions, when: start and stop, methods: [group rad]}
kinds:
  - {name: quay-switch, traits: {refusal: ends-list}}
  - {name: quay-radio, traits: {refusal: ends-list%s}}
devices:
""" % (KT, KT2, KR, KR2, BOL, CLE, FAI, HAW, extra, more) + dev("pier-sw", "quay-switch", PIER, "t") + dev("lock-sw", "quay-switch", LOCK, "t") + dev("mast-ap", "quay-radio", MAST, "r") + dev("buoy-ap", "quay-radio", BUOY, "r") + """accounts:
  - {name: harbour, level: 15, password: "%s"}
people:
  - {name: liv.moen, teams: [engine], password: "%s"}
  - {name: ola.berg, teams: [deck], password: "%s"}
  - {name: kari.lund, teams: [engine], password: "%s", disabled: true}
  - {name: nils.rike, teams: [yard], password: "%s"}
roles:
  - {name: engineer, level: 15, commands: ["allow **"]}
  - {name: lookout, level: 1, commands: ["allow look **"]}
grants:
  - {who: [team engine], role: engineer}
  - {who: [team deck], role: lookout}
  - {who: [team yard], where: {place: [pier]}, role: engineer}
""" % ((HASH,) * 5)
DIR = "  - {name: registry, protocol: ldap, address: %s, port: 389, tls: none, base: 'dc=cliff,dc=example', bind: {as: 'cn=aaa,dc=cliff,dc=example', key: marble}}\n" % REG

CASES = {}
def case(name, first, about, where=None, text=None, tunnel=None, cut=0):
    def keep(draw): CASES[name] = (first, about, where, text, draw, tunnel, cut); return draw
    return keep
def two(w, dev, srv, port, q, gap=3.0):
    p = w.port(); w.udp(dev, p, srv, port, q.b); w.wait(gap); w.udp(dev, p, srv, port, q.b); w.wait(gap); return p
exec(open(os.path.join(HERE, "cases.py")).read())

open(HERE + "/site.yaml", "w").write(site())
for name, (first, about, where, text, draw, tunnel, cut) in CASES.items():
    SID[0] = 1000; d = os.path.join(HERE, name); os.makedirs(d, exist_ok=True); w = Wire(tunnel, cut); draw(w); w.save(d + "/traffic.pcap")
    if text: open(d + "/site.yaml", "w").write(text)
    x = {"first": first, "about": about}
    if where: x["where"] = where
    open(d + "/expect.json", "w").write(json.dumps(x) + "\n")
