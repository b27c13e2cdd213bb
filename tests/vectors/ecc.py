#!/usr/bin/env python3
"""Writes ecc.jsonl: what policies with curves come to (Part 6, 6.8.1; Part 7, 6.6), by way of python3-cryptography.

Salts, HKDF and the layout of keys and signatures are written down here once more, from the standard's text, and not
taken from the product. Run it by hand when a policy is added; its output is kept beside it.
"""

import datetime
import hashlib
import hmac
import json
import pathlib
import struct

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, utils

POLICIES = {
    "ECC_nistP256": (ec.SECP256R1(), 32, hashes.SHA256(), "sha256", (32, 16, 16)),
    "ECC_nistP384": (ec.SECP384R1(), 48, hashes.SHA384(), "sha384", (48, 32, 16)),
}


def pem(key):
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ).decode()


def point(key, size):
    numbers = key.public_key().public_numbers()
    return numbers.x.to_bytes(size, "big") + numbers.y.to_bytes(size, "big")


def hkdf(digest, secret, salt, size):
    """RFC 5869, with the salt as info."""
    extracted = hmac.new(salt, secret, digest).digest()
    out, last, count = b"", b"", 1
    while len(out) < size:
        last = hmac.new(extracted, last + salt + bytes([count]), digest).digest()
        out += last
        count += 1
    return out[:size]


def certificate_of(key):
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Fernhollow test")])
    start = datetime.datetime(2026, 1, 1)
    return (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(start)
        .not_valid_after(start + datetime.timedelta(days=36500))
        .sign(key, hashes.SHA256())
        .public_bytes(serialization.Encoding.DER)
    )


def main():
    lines = []
    for policy, (curve, size, algorithm, digest, sizes) in POLICIES.items():
        client, server = ec.generate_private_key(curve), ec.generate_private_key(curve)
        client_nonce, server_nonce = point(client, size), point(server, size)
        secret = client.exchange(ec.ECDH(), server.public_key())
        length = struct.pack("<H", sum(sizes))
        keys = {}
        for side, salt in (
            ("client", length + b"opcua-client" + client_nonce + server_nonce),
            ("server", length + b"opcua-server" + server_nonce + client_nonce),
        ):
            octets = hkdf(digest, secret, salt, sum(sizes))
            keys[side] = {
                "signingKey": octets[: sizes[0]].hex(),
                "encryptingKey": octets[sizes[0] : sizes[0] + sizes[1]].hex(),
                "initializationVector": octets[sizes[0] + sizes[1] :].hex(),
            }
        data = b"a filter is washed when its pressure climbs"
        r, s = utils.decode_dss_signature(client.sign(data, ec.ECDSA(algorithm)))
        signature = r.to_bytes(size, "big") + s.to_bytes(size, "big")
        lines.append(
            {
                "policy": policy,
                "clientKey": pem(client),
                "serverKey": pem(server),
                "clientNonce": client_nonce.hex(),
                "serverNonce": server_nonce.hex(),
                "keys": keys,
                "certificate": certificate_of(client).hex(),
                "data": data.hex(),
                "signature": signature.hex(),
                "hmac": hmac.new(bytes.fromhex(keys["client"]["signingKey"]), data, digest).digest().hex(),
            }
        )
    path = pathlib.Path(__file__).with_name("ecc.jsonl")
    path.write_text("".join(json.dumps(line) + "\n" for line in lines))


main()
