# Faults between device and server.
@case("radius-key-of-another-server", ["key-differs"], "the device uses the key of hawser for fairlead", "marble")
def _(w): rwell(w, BUOY, "ola.berg", 3); q = Ask("liv.moen", KR2, 9); two(w, MAST, FAI, 1812, q)
@case("radius-server-has-another-key", ["key-differs"], "the server answers with another key; the device is right", "server fairlead")
def _(w):
    q = Ask("liv.moen", KR, 4); p = w.port()
    for _ in range(2): w.udp(MAST, p, FAI, 1812, q.b); w.wait(.005); w.udp(FAI, 1812, MAST, p, reply(q, NO, key="marble-key-2Lp6tY1Q")); w.wait(3)
@case("tacacs-key-in-capitals-on-the-device", ["key-differs"], "the key was typed in capitals", "pier-sw and server bollard")
def _(w): well(w, LOCK, "ola.berg"); login(w, PIER, BOL, "liv.moen", KT.upper(), KT, upto=2, close=True)
@case("tacacs-server-has-another-key", ["key-differs"], "the server's answer is under another key", "server bollard")
def _(w): login(w, PIER, BOL, "liv.moen", KT, "granite-key-5Hn8vB3y", upto=2)
@case("radius-dropped-at-a-filter", ["unreachable"], "nothing comes back for one device", "mast-ap")
def _(w): rwell(w, BUOY, "ola.berg", 2); two(w, MAST, FAI, 1812, Ask("liv.moen", KR, 5)); two(w, MAST, HAW, 1812, Ask("liv.moen", KR2, 6))
@case("tacacs-syn-unanswered", ["unreachable"], "three SYN and nothing", "bollard")
def _(w):
    c = Tcp(w, PIER, BOL, shake=False)
    for gap in (1, 2, 2): c.seg(0, "S", new=False); w.wait(gap)
@case("tacacs-port-resets", ["server-off"], "the host answers with a reset", "bollard")
def _(w): c = Tcp(w, PIER, BOL, shake=False); c.seg(0, "S"); w.wait(.001); c.seg(1, "RA")
@case("router-says-host-unreachable", ["unreachable"], "ICMP of a router", "fairlead")
def _(w):
    q = Ask("liv.moen", KR, 7); p = w.port()
    for _ in range(2): about = w.udp(MAST, p, FAI, 1812, q.b); w.wait(.01); w.icmp("203.0.113.1", MAST, about, 1); w.wait(3)
@case("router-says-filtered", ["unreachable"], "ICMP: administratively prohibited", "bollard")
def _(w): c = Tcp(w, PIER, BOL, shake=False); p = c.seg(0, "S"); w.wait(.002); w.icmp("203.0.113.1", PIER, p, 13)
@case("arp-without-reply", ["unreachable"], "the server is on the device's network, and nobody has its address", "fairlead")
def _(w):
    for _ in range(4): w.arp("198.51.100.99", FAI); w.wait(1)
@case("port-1645", ["wrong-port"], "the older pair of ports", "fairlead")
def _(w):
    q = Ask("liv.moen", KR, 8); p = w.port()
    for _ in range(2): about = w.udp(MAST, p, FAI, 1645, q.b); w.wait(.002); w.icmp(FAI, MAST, about, 3); w.wait(3)
@case("records-to-a-closed-port", ["accounting-port"], "login answered, records refused by the port", "fairlead")
def _(w):
    p = w.port(); q = Ask("liv.moen", KR, 1); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.004); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); w.wait(.01)
    r = Rec("liv.moen", KR, 3)
    for _ in range(2): about = w.udp(MAST, p + 1, FAI, 1813, r.b); w.wait(.002); w.icmp(FAI, MAST, about, 3); w.wait(3)
@case("answers-lost-on-the-way-back", ["return-path"], "captured at the server: each answer leaves, and the device asks again", "fairlead")
def _(w):
    for srv, key, i in ((FAI, KR, 11), (HAW, KR2, 12)):
        q = Ask("liv.moen", key, i); p = w.port()
        for _ in range(2): w.udp(MAST, p, srv, 1812, q.b); w.wait(.003); w.udp(srv, 1812, MAST, p, reply(q, YES, FULL)); w.wait(3)
@case("answer-from-another-port", ["answer-from-elsewhere"], "the server answers from port 32768", "fairlead")
def _(w):
    q = Ask("liv.moen", KR, 13); p = w.port()
    for _ in range(2): w.udp(MAST, p, FAI, 1812, q.b); w.wait(.003); w.udp(FAI, 32768, MAST, p, reply(q, YES, FULL)); w.wait(3)
@case("answer-from-a-second-address", ["answer-from-elsewhere"], "a host with two addresses", "fairlead")
def _(w):
    q = Ask("liv.moen", KR, 14); p = w.port()
    for _ in range(2): w.udp(MAST, p, FAI, 1812, q.b); w.wait(.003); w.udp("198.51.100.48", 1812, MAST, p, reply(q, NO)); w.wait(3)
@case("forged-accept-first", ["forged-or-stale"], "an accept under no key comes before the real reject", "fairlead")
def _(w): q = Ask("ola.berg", KR, 15); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.001); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL, key="guess")); w.wait(.004); w.udp(FAI, 1812, MAST, p, reply(q, NO))
@case("answer-after-the-second-try", ["too-slow"], "each answer takes 7 s", "fairlead")
def _(w):
    q = Ask("liv.moen", KR, 16); p = two(w, MAST, FAI, 1812, q); q2 = Ask("liv.moen", KR2, 17); p2 = w.port(); w.udp(MAST, p2, HAW, 1812, q2.b); w.wait(1)
    w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); w.wait(.002); w.udp(HAW, 1812, MAST, p2, reply(q2, YES, FULL))
@case("tacacs-answers-after-the-device-left", ["too-slow"], "the device closes after 5 s, the answer comes after 6 s", "bollard")
def _(w):
    s, c = sid(), Tcp(w, PIER, BOL); c.say(0, pkt(1, 1, s, start("liv.moen"), KT)); w.wait(5); c.seg(0, "FA"); w.wait(1); c.seg(1, "PA", pkt(1, 2, s, said(5, "Password: "), KT)); w.wait(.001); c.seg(0, "R")
@case("reset-in-the-middle", ["unreachable"], "a filter resets at the second packet", "bollard")
def _(w):
    s, c = sid(), Tcp(w, PIER, BOL); c.say(0, pkt(1, 1, s, start("liv.moen"), KT)); w.wait(.002); c.say(1, pkt(1, 2, s, said(5, "Password: "), KT)); w.wait(1); c.seg(0, "PA", pkt(1, 3, s, cont("lantern-9"), KT)); c.seg(1, "RA")
@case("closed-at-once", ["client-unknown"], "the server closes each connection as it is made", "pier-sw")
def _(w):
    for srv in (BOL, CLE): c = Tcp(w, PIER, srv); c.say(0, pkt(1, 1, sid(), start("liv.moen"), KT if srv == BOL else KT2)); c.close(1)
@case("large-segments-lost", ["mtu"], "small packets pass, a large authorization never does", "bollard")
def _(w):
    login(w, PIER, BOL, "liv.moen", KT); s, c = sid(), Tcp(w, PIER, BOL); big = pkt(2, 1, s, want("liv.moen", ["service=shell", "cmd=" + "x" * 240, "cmd-arg=" + "y" * 240, "cmd-arg=" + "z" * 240]), KT)
    c.say(0, big[:20])
    for gap in (.2, .4, .8, 1.6, 2): c.seg(0, "PA", big[20:], new=False); w.wait(gap)
    c.seg(0, "FA")
@case("never-acknowledged", ["unreachable"], "the handshake passes, the question never", "cleat")
def _(w):
    c = Tcp(w, PIER, CLE); q = pkt(1, 1, sid(), start("liv.moen"), KT2)
    for gap in (.2, .4, .8, 1.6, 2): c.seg(0, "PA", q, new=False); w.wait(gap)
    c.seg(0, "FA")
@case("unknown-source-that-names-itself", ["client-unknown", "address-translated"], "mast-ap behind a translator", "mast-ap")
def _(w): two(w, "203.0.113.250", FAI, 1812, Ask("liv.moen", KR, 18, nas=MAST))
@case("asks-a-retired-server", ["wrong-server"], "the device asks an address that no server has", "198.51.100.77")
def _(w): two(w, MAST, "198.51.100.77", 1812, Ask("liv.moen", KR, 19)); two(w, MAST, "198.51.100.77", 1812, Ask("liv.moen", KR, 20))
@case("unsigned-accepts", ["message-authenticator-missing"], "the server's accepts have no Message-Authenticator", "fairlead")
def _(w):
    q = Ask("liv.moen", KR, 21); p = w.port()
    for _ in range(2): w.udp(MAST, p, FAI, 1812, q.b); w.wait(.003); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL, sign=False)); w.wait(3)
@case("tls-unknown-authority", ["tls-refused"], "the device's client says: unknown CA", "bollard", site().replace("name: bollard, protocol: tacacs, address: 198.51.100.31, key: granite", "name: bollard, protocol: tacacs, address: 198.51.100.31, port: 300, transport: tls"))
def _(w):
    c = Tcp(w, PIER, BOL, 300); c.say(0, b"\x16\3\1\0\x40\1" + b"h" * 63); w.wait(.003); c.say(1, b"\x16\3\3\0\x30\2" + b"s" * 47); w.wait(.003); c.say(0, b"\x15\3\3\0\2\2\x30"); c.close()
@case("tls-to-a-clear-port", ["mixed-protocol"], "TLS to port 49", "bollard")
def _(w): c = Tcp(w, PIER, BOL); c.say(0, b"\x16\3\1\0\x40\1" + b"h" * 63); w.wait(.003); c.close(1)
@case("error-from-the-server", ["server-error"], "TACACS+ ERROR", "bollard")
def _(w): login(w, PIER, BOL, "liv.moen", KT, end=7); login(w, PIER, CLE, "liv.moen", KT2, end=7)
# People and rights.
@case("reject-of-a-known-person", ["wrong-password"], "authentic reject", "mast-ap")
def _(w): q = Ask("liv.moen", KR, 30); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(1.1); w.udp(FAI, 1812, MAST, p, reply(q, NO))
@case("reject-of-a-slip", ["unknown-person"], "liv.meon", "mast-ap")
def _(w): q = Ask("liv.meon", KR, 31); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(1.1); w.udp(FAI, 1812, MAST, p, reply(q, NO))
@case("fail-of-who-is-disabled", ["disabled-or-expired"], "kari.lund", "pier-sw")
def _(w): login(w, PIER, BOL, "kari.lund", KT, end=2)
@case("fail-outside-of-the-grant", ["no-grant"], "the yard at the lock", "lock-sw")
def _(w): login(w, LOCK, BOL, "nils.rike", KT, end=2)
@case("local-account-refused-by-the-server", ["local-while-server-answers"], "harbour while servers answer", "pier-sw")
def _(w): login(w, PIER, BOL, "harbour", KT, end=2)
@case("chap-against-a-hash", ["password-form"], "CHAP", "mast-ap")
def _(w): q = Ask("liv.moen", KR, 32, form="chap"); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(1); w.udp(FAI, 1812, MAST, p, reply(q, NO))
@case("code-never-typed", ["second-factor"], "a challenge without an answer", "mast-ap")
def _(w): q = Ask("liv.moen", KR, 33); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.1); w.udp(FAI, 1812, MAST, p, reply(q, CODE, at(24, "s1") + at(18, "code"))); w.wait(40)
@case("accept-without-a-level", ["no-rights"], "no attribute that the kind reads", "mast-ap")
def _(w): q = Ask("liv.moen", KR, 34); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.01); w.udp(FAI, 1812, MAST, p, reply(q, YES, at(18, "welcome")))
@case("accept-with-level-1-for-an-engineer", ["no-rights"], "Management-Privilege-Level 1", "mast-ap")
def _(w): q = Ask("liv.moen", KR, 35); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.01); w.udp(FAI, 1812, MAST, p, reply(q, YES, LOOK))
@case("session-refused", ["session-refused", "no-grant"], "PASS, and then the session FAILs", "pier-sw")
def _(w): login(w, PIER, BOL, "liv.moen", KT); session(w, PIER, BOL, "liv.moen", KT, (), 16)
@case("record-answered-with-error", ["record-not-kept"], "accounting ERROR", "bollard")
def _(w): login(w, PIER, BOL, "liv.moen", KT); session(w, PIER, BOL, "liv.moen", KT); record(w, PIER, BOL, "liv.moen", KT, 2)
# The directory behind the server.
def ldap(n, tag, *parts): b = b"\2\1" + bytes([n]) + bytes([tag, sum(map(len, parts))]) + b"".join(parts); return b"\x30" + bytes([len(b)]) + b
def s4(x, tag=4): return bytes([tag, len(x)]) + x.encode()
def result(n, tag, code, say=""): return ldap(n, tag, b"\x0a\1" + bytes([code]), s4(""), s4(say))
def bind(n, dn): return ldap(n, 0x60, b"\2\1\3", s4(dn), s4("secret", 0x80))
def search(n): return ldap(n, 0x63, s4("dc=cliff,dc=example"), b"\x0a\1\2\x0a\1\0\2\1\0\2\1\0\1\1\0", s4("objectClass", 0x87), b"\x30\0")
@case("directory-knows-no-such-base", ["directory-no-base"], "noSuchObject", "fairlead", site(DIR))
def _(w):
    q = Ask("tor.vik", KR, 40); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); c = Tcp(w, FAI, REG, 389)
    c.say(0, bind(1, "cn=aaa,dc=cliff,dc=example")); c.say(1, result(1, 0x61, 0)); c.say(0, search(2)); c.say(1, result(2, 0x65, 32)); c.close(); w.wait(3); w.udp(MAST, p, FAI, 1812, q.b); w.wait(3)
@case("directory-refuses-the-searcher", ["directory-refuses-us"], "invalidCredentials to the server's own bind", "fairlead", site(DIR))
def _(w):
    q = Ask("tor.vik", KR, 41); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); c = Tcp(w, FAI, REG, 389)
    c.say(0, bind(1, "cn=aaa,dc=cliff,dc=example")); c.say(1, result(1, 0x61, 49)); c.close(); w.wait(3); w.udp(MAST, p, FAI, 1812, q.b); w.wait(3)
@case("directory-silent", ["directory-down"], "the directory's SYN has no answer", "fairlead", site(DIR))
def _(w):
    q = Ask("tor.vik", KR, 42); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); c = Tcp(w, FAI, REG, 389, shake=False)
    for gap in (1, 2): c.seg(0, "S", new=False); w.wait(gap)
    w.udp(MAST, p, FAI, 1812, q.b); w.wait(3)
# Well, or nearly not.
@case("well-tacacs", ["healthy"], "login, session, record")
def _(w): well(w)
@case("well-radius", ["healthy"], "login and record")
def _(w): rwell(w)
@case("well-in-a-mirror-gre", ["healthy"], "the same, mirrored in GRE", tunnel="gre")
def _(w): rwell(w); w.wait(20); well(w)
@case("well-in-a-mirror-vxlan", ["healthy"], "the same, mirrored in VXLAN", tunnel="vxlan")
def _(w): rwell(w); w.wait(20); well(w)
@case("well-tagged", ["healthy"], "with a VLAN tag", tunnel="vlan")
def _(w): well(w)
@case("well-first-packet-lost", ["healthy"], "asked again, answered")
def _(w): q = Ask("liv.moen", KR, 50); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(3); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.004); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); r = Rec("liv.moen", KR, 51); w.udp(MAST, p + 1, FAI, 1813, r.b); w.wait(.003); w.udp(FAI, 1813, MAST, p + 1, reply(r, 5))
@case("well-one-answer-lost", ["healthy"], "the first answer is lost, the second is heard: the record follows")
def _(w):
    q = Ask("liv.moen", KR, 52); p = w.port()
    for gap in (3, .01): w.udp(MAST, p, FAI, 1812, q.b); w.wait(.004); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); w.wait(gap)
    r = Rec("liv.moen", KR, 53); w.udp(MAST, p + 1, FAI, 1813, r.b); w.wait(.003); w.udp(FAI, 1813, MAST, p + 1, reply(r, 5))
@case("well-two-logins-at-once", ["healthy"], "one person on two lines at the same time")
def _(w):
    qs = [(Ask("liv.moen", KR, 60 + i, extra=at(5, i)), w.port()) for i in range(2)]
    for q, p in qs: w.udp(MAST, p, FAI, 1812, q.b)
    w.wait(.01)
    for q, p in qs: w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL))
@case("well-asks-for-one-port-of-another", ["healthy"], "a stranger's probe beside a login that is well")
def _(w): two(w, "192.0.2.222", FAI, 1812, Ask("root", "guess", 61), .5); rwell(w)
@case("well-person-goes-away", ["healthy"], "ABORT at the password prompt")
def _(w):
    s, c = sid(), Tcp(w, PIER, BOL); c.say(0, pkt(1, 1, s, start("liv.moen"), KT)); w.wait(.002); c.say(1, pkt(1, 2, s, said(5, "Password: "), KT)); w.wait(25); c.say(0, pkt(1, 3, s, cont("", 1), KT)); c.close()
@case("well-then-the-capture-ends", ["healthy"], "the record of a login that is well is still open when the capture ends")
def _(w): login(w, PIER, BOL, "liv.moen", KT); session(w, PIER, BOL, "liv.moen", KT); c = Tcp(w, PIER, BOL); c.say(0, pkt(3, 1, sid(), note("liv.moen", ["task_id=3", "service=shell"]), KT))
@case("well-joined-in-the-middle", ["healthy"], "the capture begins in a conversation; a whole login follows")
def _(w): s = sid(); c = Tcp(w, LOCK, BOL, shake=False); c.say(1, pkt(1, 4, s, said(1), KT)); c.close(); w.wait(5); well(w)
@case("well-with-a-directory-in-clear", ["healthy"], "the server asks its directory, which answers", None, site(DIR))
def _(w):
    q = Ask("tor.vik", KR, 62); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); c = Tcp(w, FAI, REG, 389)
    c.say(0, bind(1, "cn=aaa,dc=cliff,dc=example")); c.say(1, result(1, 0x61, 0)); c.say(0, search(2)); c.say(1, ldap(2, 0x64, s4("uid=tor.vik,dc=cliff,dc=example"), b"\x30\0") + result(2, 0x65, 0))
    c.say(0, bind(3, "uid=tor.vik,dc=cliff,dc=example")); c.say(1, result(3, 0x61, 0)); c.close(); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); r = Rec("tor.vik", KR, 63); w.udp(MAST, p + 1, FAI, 1813, r.b); w.wait(.003); w.udp(FAI, 1813, MAST, p + 1, reply(r, 5))
@case("well-lookout-at-level-1", ["healthy"], "the role is of level 1, and so is the answer")
def _(w): login(w, PIER, BOL, "ola.berg", KT); session(w, PIER, BOL, "ola.berg", KT, ("priv-lvl=1",))
@case("well-answer-before-its-question", ["healthy"], "two queues: the accept stands 0.4 ms before its request")
def _(w):
    q = Ask("liv.moen", KR, 64); p = w.port(); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); w.udp(MAST, p, FAI, 1812, q.b); r = Rec("liv.moen", KR, 65); w.wait(.01); w.udp(MAST, p + 1, FAI, 1813, r.b); w.wait(.003); w.udp(FAI, 1813, MAST, p + 1, reply(r, 5))
@case("well-slow-and-in-time", ["healthy"], "2.6 s of 3 s")
def _(w): q = Ask("liv.moen", KR, 66); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(2.6); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL)); r = Rec("liv.moen", KR, 67); w.udp(MAST, p + 1, FAI, 1813, r.b); w.wait(.003); w.udp(FAI, 1813, MAST, p + 1, reply(r, 5))
@case("well-code-asked-and-given", ["healthy"], "a challenge, then the code")
def _(w):
    q = Ask("liv.moen", KR, 68); p = w.port(); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.1); w.udp(FAI, 1812, MAST, p, reply(q, CODE, at(24, "s1") + at(18, "code"))); w.wait(12)
    q = Ask("liv.moen", KR, 69, pw="123456", extra=at(24, "s1")); w.udp(MAST, p, FAI, 1812, q.b); w.wait(.1); w.udp(FAI, 1812, MAST, p, reply(q, YES, FULL))
@case("cut-at-64-octets", ["capture-cut"], "the capture keeps 64 octets of each packet", cut=64)
def _(w): rwell(w)
@case("over-tls-to-its-end", ["not-known"], "a whole conversation over TLS: nothing can be read", None, site().replace("name: bollard, protocol: tacacs, address: 198.51.100.31, key: granite", "name: bollard, protocol: tacacs, address: 198.51.100.31, port: 300, transport: tls"))
def _(w):
    c = Tcp(w, PIER, BOL, 300); c.say(0, b"\x16\3\1\0\x40\1" + b"h" * 63); w.wait(.003); c.say(1, b"\x16\3\3\0\x30\2" + b"s" * 47 + b"\x14\3\3\0\1\1" + b"\x17\3\3\0\x40" + b"e" * 64); w.wait(.003)
    c.say(0, b"\x14\3\3\0\1\1" + b"\x17\3\3\0\x40" + b"f" * 64); c.say(1, b"\x17\3\3\0\x20" + b"g" * 32); c.close()

# The same kinds again, each four times: by other devices, people and servers, in other wrappings, among logins of
# others that are well, a stranger's packets and one another. Nothing was changed for these before they were first read.
import itertools
def crowd(w, r, but):
    """logins of others that are well, and sometimes a stranger"""
    for _ in range(r.randrange(3)):
        if r.random() < .5: rwell(w, r.choice([d for d in (MAST, BUOY) if d != but] or [BUOY]), "ola.berg", r.randrange(100, 250))
        else: well(w, r.choice([d for d in (PIER, LOCK) if d != but] or [LOCK]), "ola.berg")
        w.wait(r.uniform(.5, 40))
    if r.random() < .4: w.udp("192.0.2.%d" % r.randrange(1, 250), w.port(), FAI, 1812, Ask("admin", "public", r.randrange(99)).b); w.wait(1)
def ask1(w, r, dev, srv, key, who, **k): q = Ask(who, key, r.randrange(100), **k); p = w.port(); w.udp(dev, p, srv, 1812, q.b); return q, p
def tries(w, r, dev, srv, key, who, then=None, n=2, gap=3.0, port=1812, **k):
    q = Ask(who, key, r.randrange(100), **k); p = w.port()
    for _ in range(n):
        about = w.udp(dev, p, srv, port, q.b)
        if then: w.wait(r.uniform(.001, .02)); then(q, p, about)
        w.wait(gap)
    return q, p
NAMES = {PIER: "pier-sw", LOCK: "lock-sw", MAST: "mast-ap", BUOY: "buoy-ap", BOL: "bollard", CLE: "cleat", FAI: "fairlead", HAW: "hawser"}
def rad(r): d = r.choice((MAST, BUOY)); return d, r.choice((("f", FAI, KR), ("h", HAW, KR2)))[1:], r.choice(("liv.moen", "nils.rike" if d == MAST else "liv.moen"))
def tac(r): d = r.choice((PIER, LOCK)); return d, r.choice((("b", BOL, KT), ("c", CLE, KT2)))[1:], r.choice(("liv.moen", "nils.rike" if d == PIER else "liv.moen"))
def slip(r, key):
    i = r.randrange(1, len(key) - 2)
    return r.choice((key + " ", key.upper(), key[:i] + key[i + 1:], key[:i] + key[i + 1] + key[i] + key[i + 2:] if key[i] != key[i + 1] else key + "\n", "a-key-of-nobody-77"))
AGAIN = {}
def again(name, first, n=4):
    def keep(f): AGAIN[name] = (first, f, n); return f
    return keep
@again("silent", ["unreachable"])
def _(w, r): d, (s, k), who = rad(r); tries(w, r, d, s, k, who); return NAMES[s]
@again("no-syn-ack", ["unreachable"])
def _(w, r):
    d, (s, k), who = tac(r); c = Tcp(w, d, s, shake=False)
    for gap in (1, 2, 2): c.seg(0, "S", new=False); w.wait(gap)
    return NAMES[s]
@again("icmp-from-a-router", ["unreachable"])
def _(w, r): d, (s, k), who = rad(r); code = r.choice((0, 1, 13, 10)); tries(w, r, d, s, k, who, lambda q, p, a: w.icmp("203.0.113.1", d, a, code)); return NAMES[s]
@again("port-closed", ["server-off"])
def _(w, r): d, (s, k), who = rad(r); tries(w, r, d, s, k, who, lambda q, p, a: w.icmp(s, d, a, 3)); return NAMES[s]
@again("tcp-refused", ["server-off"])
def _(w, r): d, (s, k), who = tac(r); c = Tcp(w, d, s, shake=False); c.seg(0, "S"); w.wait(.001); c.seg(1, "RA"); return NAMES[s]
@again("key-of-the-device", ["key-differs"], 6)
def _(w, r): d, (s, k), who = rad(r); tries(w, r, d, s, slip(r, k), who); return NAMES[d] + " and server " + NAMES[s]
@again("key-of-the-server", ["key-differs"])
def _(w, r): d, (s, k), who = rad(r); bad = slip(r, k); tries(w, r, d, s, k, who, lambda q, p, a: w.udp(s, 1812, d, p, reply(q, YES, FULL, key=bad))); return "server " + NAMES[s]
@again("tacacs-key-of-the-device", ["key-differs"], 6)
def _(w, r): d, (s, k), who = tac(r); login(w, d, s, who, slip(r, k), k, upto=2); return NAMES[d] + " and server " + NAMES[s]
@again("tacacs-key-of-the-server", ["key-differs"])
def _(w, r): d, (s, k), who = tac(r); login(w, d, s, who, k, slip(r, k), upto=2); return "server " + NAMES[s]
@again("records-lost", ["accounting-port"])
def _(w, r): d, (s, k), who = rad(r); q, p = ask1(w, r, d, s, k, who); w.wait(.01); w.udp(s, 1812, d, p, reply(q, YES, FULL)); rec = Rec(who, k, 9); [(w.udp(d, p + 1, s, 1813, rec.b), w.wait(3)) for _ in range(2)]; return NAMES[s]
@again("answers-lost", ["return-path"])
def _(w, r):
    d, _, who = rad(r)
    for s, k in ((FAI, KR), (HAW, KR2)): tries(w, r, d, s, k, who, lambda q, p, a: w.udp(s, 1812, d, p, reply(q, YES, FULL)))
    return "fairlead"
@again("too-late", ["too-slow"])
def _(w, r): d, (s, k), who = rad(r); q, p = tries(w, r, d, s, k, who); w.wait(r.uniform(.5, 3)); w.udp(s, 1812, d, p, reply(q, YES, FULL)); return NAMES[s]
@again("elsewhere", ["answer-from-elsewhere"])
def _(w, r): d, (s, k), who = rad(r); a2, p2 = r.choice((("198.51.100.90", 1812), (s, 40000))); tries(w, r, d, s, k, who, lambda q, p, a: w.udp(a2, p2, d, p, reply(q, YES, FULL))); return NAMES[s]
@again("unsigned", ["message-authenticator-missing"])
def _(w, r): d, (s, k), who = rad(r); tries(w, r, d, s, k, who, lambda q, p, a: w.udp(s, 1812, d, p, reply(q, r.choice((YES, NO)), sign=False))); return NAMES[s]
@again("cut-off", ["unreachable"])
def _(w, r): d, (s, k), who = tac(r); n = sid(); c = Tcp(w, d, s); c.say(0, pkt(1, 1, n, start(who), k)); w.wait(.003); c.say(1, pkt(1, 2, n, said(5, "Password: "), k)); w.wait(r.uniform(.5, 9)); c.seg(0, "PA", pkt(1, 3, n, cont("lantern-9"), k)); c.seg(1, r.choice(("RA", "FA"))); return NAMES[s]
@again("never-acked", ["unreachable"])
def _(w, r):
    d, (s, k), who = tac(r); c = Tcp(w, d, s); q = pkt(1, 1, sid(), start(who), k)
    for gap in (.3, .6, 1.2, 2.4): c.seg(0, "PA", q, new=False); w.wait(gap)
    c.seg(0, "FA"); return NAMES[s]
@again("closed-unheard", ["client-unknown"])
def _(w, r): d, (s, k), who = tac(r); c = Tcp(w, d, s); c.say(0, pkt(1, 1, sid(), start(who), k)); c.close(1); return NAMES[d]
@again("wrong-password", ["wrong-password"])
def _(w, r): d, (s, k), who = rad(r); q, p = ask1(w, r, d, s, k, who, pw="not-it"); w.wait(r.uniform(.2, 2)); w.udp(s, 1812, d, p, reply(q, NO, at(18, "no"))); return NAMES[d]
@again("tacacs-wrong-password", ["wrong-password"])
def _(w, r): d, (s, k), who = tac(r); login(w, d, s, who, k, end=2); return NAMES[d]
@again("unknown", ["unknown-person"])
def _(w, r): d, (s, k), _ = tac(r); login(w, d, s, r.choice(("liv.meon", "Liv.Moen", "guest", "liv moen")), k, end=2); return NAMES[d]
@again("disabled", ["disabled-or-expired"])
def _(w, r): d, (s, k), _ = rad(r); q, p = ask1(w, r, d, s, k, "kari.lund"); w.wait(.3); w.udp(s, 1812, d, p, reply(q, NO)); return NAMES[d]
@again("no-grant", ["no-grant"])
def _(w, r): _, (s, k), _ = rad(r); q, p = ask1(w, r, BUOY, s, k, "nils.rike"); w.wait(.3); w.udp(s, 1812, BUOY, p, reply(q, NO)); return "buoy-ap"
@again("local-name", ["local-while-server-answers"])
def _(w, r): d, (s, k), _ = tac(r); login(w, d, s, "harbour", k, end=2); return NAMES[d]
@again("chap", ["password-form"])
def _(w, r): d, (s, k), who = rad(r); q, p = ask1(w, r, d, s, k, who, form="chap"); w.wait(.4); w.udp(s, 1812, d, p, reply(q, NO)); return NAMES[d]
@again("level-too-low", ["no-rights"])
def _(w, r): d, (s, k), who = tac(r); login(w, d, s, who, k); session(w, d, s, who, k, r.choice((("priv-lvl=1",), ("priv-lvl=7", "idletime=5")))); return NAMES[d]
@again("no-level", ["no-rights"])
def _(w, r): d, (s, k), who = rad(r); q, p = ask1(w, r, d, s, k, who); w.wait(.02); w.udp(s, 1812, d, p, reply(q, YES, r.choice((b"", at(25, "class"), at(11, "template-1"))))); return NAMES[d]
@again("well-login", ["healthy"], 8)
def _(w, r):
    if r.random() < .5: well(w, r.choice((PIER, LOCK)), r.choice(("liv.moen", "ola.berg") if False else ("liv.moen",)))
    else: rwell(w, r.choice((MAST, BUOY)), "liv.moen", r.randrange(90))
@again("well-resent", ["healthy"], 6)
def _(w, r):
    d, (s, k), who = rad(r); q = Ask(who, k, r.randrange(90)); p = w.port(); lost = r.choice((1, 2, "answer"))
    w.udp(d, p, s, 1812, q.b)
    if lost == "answer": w.wait(.003); w.udp(s, 1812, d, p, reply(q, YES, FULL))
    w.wait(3); w.udp(d, p, s, 1812, q.b); w.wait(.003); w.udp(s, 1812, d, p, reply(q, YES, FULL)); rec = Rec(who, k, 9); w.wait(.01); w.udp(d, p + 1, s, 1813, rec.b); w.wait(.01); w.udp(s, 1813, d, p + 1, reply(rec, 5))
@again("well-slow", ["healthy"], 6)
def _(w, r): d, (s, k), who = tac(r); login(w, d, s, who, k, slow=r.uniform(.5, 4.5), think=r.uniform(1, 50)); session(w, d, s, who, k); record(w, d, s, who, k)
@again("well-doubled", ["healthy"], 6)
def _(w, r): d, (s, k), who = rad(r); q, p = ask1(w, r, d, s, k, who); w.wait(.01); b = reply(q, YES, FULL); [w.udp(s, 1812, d, p, b) for _ in range(r.randrange(2, 5))]; rec = Rec(who, k, 9); w.wait(.01); w.udp(d, p + 1, s, 1813, rec.b); w.wait(.01); w.udp(s, 1813, d, p + 1, reply(rec, 5))
@again("well-code", ["healthy"], 4)
def _(w, r): d, (s, k), who = rad(r); q, p = ask1(w, r, d, s, k, who); w.wait(.1); w.udp(s, 1812, d, p, reply(q, CODE, at(24, "st"))); w.wait(r.uniform(3, 25)); q = Ask(who, k, 99, pw="654321", extra=at(24, "st")); w.udp(d, p, s, 1812, q.b); w.wait(.1); w.udp(s, 1812, d, p, reply(q, YES, FULL))
@again("well-abort", ["healthy"], 4)
def _(w, r): d, (s, k), who = tac(r); n = sid(); c = Tcp(w, d, s); c.say(0, pkt(1, 1, n, start(who), k)); w.wait(.002); c.say(1, pkt(1, 2, n, said(5, "Password: "), k)); w.wait(r.uniform(2, 50)); c.say(0, pkt(1, 3, n, cont("", 1), k)); c.close()
def _case(name, first, f, i):
    r = random.Random("%s %d" % (name, i)); dry = Wire(); where = f(dry, random.Random("%s %d x" % (name, i)))
    def draw(w):
        crowd(w, r, where and next((a for a, n in NAMES.items() if n == where.split(" ")[0]), None)); f(w, random.Random("%s %d x" % (name, i)))
        if r.random() < .3: w.wait(45); crowd(w, r, None)
    CASES["b-%s-%d" % (name, i)] = (first, "%s, once more among others" % name, where, None, draw, r.choice((None, None, None, "vlan", "gre", "vxlan")), 0)
for _n, (_f, _d, _k) in AGAIN.items():
    for _i in range(_k): _case(_n, _f, _d, _i)
