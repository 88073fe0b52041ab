"""Real servers of several protocols on loopback, for as long as standard input stays open.

The first line printed names the port of each. The argument is an address on which port 53 is free.
"""

import json
import sys

from twisted.conch.ssh import factory, keys
from twisted.cred.checkers import AllowAnonymousAccess
from twisted.cred.portal import Portal
from twisted.internet import reactor, stdio
from twisted.internet.protocol import Factory, Protocol
from twisted.mail import imap4, pop3, smtp
from twisted.names import authority, dns, server
from twisted.protocols.ftp import FTPFactory, FTPRealm
from twisted.web.server import Site
from twisted.web.static import Data
from cryptography.hazmat.primitives.asymmetric import rsa

NAME = b"hall.corriven.example"
EMPTY = b"four-only.corriven.example"


class Zone(authority.FileAuthority):
    """A zone without a file, in which one name is of IPv4 alone."""

    def loadFile(self, filename):
        start = dns.Record_SOA(mname=NAME, rname=b"desk." + NAME, serial=1, minimum=60)
        self.soa = (b"corriven.example", start)
        self.records = {
            b"corriven.example": [start, dns.Record_NS(NAME)],
            NAME: [dns.Record_A("198.18.128.10", 60), dns.Record_AAAA("2001:db8:128::10", 60)],
            EMPTY: [dns.Record_A("198.18.128.11", 60)],
        }


def secure_shell():
    key = keys.Key(rsa.generate_private_key(public_exponent=65537, key_size=2048))
    made = factory.SSHFactory()
    made.privateKeys = {b"ssh-rsa": key}
    made.publicKeys = {b"ssh-rsa": key.public()}
    return made


class GoWithParent(Protocol):
    def connectionLost(self, reason):
        reactor.stop()


portal = Portal(FTPRealm("/nonexistent"), [AllowAnonymousAccess()])
page = Data(b"Timetable of the day\n", "text/plain")
page.putChild(b"", page)
made = {
    "smtp": smtp.SMTPFactory(),
    "esmtp": Factory.forProtocol(smtp.ESMTP),
    "pop3": Factory.forProtocol(pop3.POP3),
    "imap": Factory.forProtocol(imap4.IMAP4Server),
    "ftp": FTPFactory(portal),
    "ssh": secure_shell(),
    "web": Site(page),
}
ports = {
    name: reactor.listenTCP(0, served, interface="127.0.0.1").getHost().port
    for name, served in made.items()
}
names = server.DNSServerFactory(authorities=[Zone(None)])
reactor.listenTCP(53, names, interface=sys.argv[1])
reactor.listenUDP(53, dns.DNSDatagramProtocol(names), interface=sys.argv[1])
print(json.dumps(ports), flush=True)
stdio.StandardIO(GoWithParent())
reactor.run()
