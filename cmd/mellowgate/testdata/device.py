"""A little device, written from RFC 2865 and RFC 3579 alone: a serial line over TCP, at which it
asks RADIUS servers in order and then its own account. It shares no code with the program.

device.py LINE-PORT FROM SECRET SERVER:PORT... : it takes logins on LINE-PORT of FROM."""
import hashlib
import hmac
import os
import socket
import struct
import sys
import threading
import time

PATIENCE, ATTEMPTS = 0.4, 2
LOCAL = ("wayback", "the way back in", 15)


def attribute(kind, value):
    return struct.pack("BB", kind, len(value) + 2) + value


def hidden(password, secret, authenticator):
    """RFC 2865, section 5.2."""
    text = password.encode()
    text += b"\0" * (-len(text) % 16 or (16 if not text else 0))
    out, last = b"", authenticator
    for i in range(0, len(text), 16):
        block = hashlib.md5(secret + last).digest()
        last = bytes(a ^ b for a, b in zip(text[i:i + 16], block))
        out += last
    return out


def ask(address, source, secret, name, password):
    """One server: the code and the attributes of its answer, or None."""
    authenticator, ident = os.urandom(16), os.urandom(1)[0]
    body = attribute(1, name.encode()) + attribute(2, hidden(password, secret, authenticator))
    body += attribute(4, socket.inet_aton(source)) + attribute(87, b"tty 7")
    body += attribute(80, b"\0" * 16)
    packet = struct.pack("!BBH", 1, ident, 20 + len(body)) + authenticator + body
    packet = packet[:-16] + hmac.new(secret, packet, "md5").digest()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.bind((source, 0))
        for _ in range(ATTEMPTS):
            s.sendto(packet, address)
            until = time.monotonic() + PATIENCE
            while (left := until - time.monotonic()) > 0:
                s.settimeout(left)
                try:
                    answer, sender = s.recvfrom(4096)
                except OSError:  # nothing came; what ICMP says is not heeded
                    continue
                if sender != address or len(answer) < 20 or answer[1] != ident:
                    continue
                good = hashlib.md5(answer[:4] + authenticator + answer[20:] + secret).digest()
                if good != answer[4:20]:
                    continue
                found, rest = {}, answer[20:struct.unpack("!H", answer[2:4])[0]]
                while rest:
                    found[rest[0]], rest = rest[2:rest[1]], rest[rest[1]:]
                return answer[0], found
    return None


def level(servers, source, secret, name, password):
    """The level with which somebody is let in, or None."""
    for server in servers:
        answer = ask(server, source, secret, name, password)
        if answer is None:
            continue
        if answer[0] != 2:
            return None  # a refusal is final
        return struct.unpack("!I", answer[1][136])[0] if 136 in answer[1] else 1  # RFC 5607
    return LOCAL[2] if (name, password) == LOCAL[:2] else None


def line(conn, *how):
    file = conn.makefile("rw", newline="")

    def say(text):
        file.write(text)
        file.flush()

    def heard():
        text = ""
        while (c := file.read(1)) not in ("\r", "\n", ""):
            text += c
        return text if text or c else None
    say("\r\nUser: ")
    name = heard()
    say("Password: ")
    password = heard()
    got = level(*how, name or "", password or "")
    if got is None:
        say("\r\nLogin denied\r\n")
        conn.close()
        return
    while True:
        say(f"\r\n(tug-{got}) # ")
        typed = heard()
        if typed is None or typed in ("exit", "quit", "logout", "leave"):
            conn.close()
            return


def main():
    port, source, secret = int(sys.argv[1]), sys.argv[2], sys.argv[3].encode()
    servers = [(a.split(":")[0], int(a.split(":")[1])) for a in sys.argv[4:]]
    listener = socket.create_server((source, port))
    print(listener.getsockname()[1], flush=True)
    while True:
        conn, _ = listener.accept()
        threading.Thread(target=line, args=(conn, servers, source, secret), daemon=True).start()


main()
