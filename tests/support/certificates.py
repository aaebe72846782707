"""Certificates made for one test: an authority, and a server's certificate for one name."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID


class Authority:
    """`root`: its own certificate's file, for those who trust it."""

    def __init__(self, folder: Path, name: str) -> None:
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        self.root = folder / f"{name}.pem"
        made = self._certificate(self._name, self._key.public_key(), x509.BasicConstraints(ca=True, path_length=0))
        self.root.write_bytes(made)

    def _certificate(self, name: x509.Name, key: ec.EllipticCurvePublicKey, extension: x509.ExtensionType) -> bytes:
        now = datetime.now(UTC)
        builder = x509.CertificateBuilder(self._name, name, key, x509.random_serial_number())
        builder = builder.not_valid_before(now - timedelta(hours=1)).not_valid_after(now + timedelta(days=1))
        signed = builder.add_extension(extension, critical=True).sign(self._key, hashes.SHA256())
        return signed.public_bytes(serialization.Encoding.PEM)

    def issue(self, host: str, certificate: Path, key_file: Path) -> None:
        """A certificate for `host`, and its key."""
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, host)])
        certificate.write_bytes(self._certificate(name, key.public_key(), x509.SubjectAlternativeName([x509.DNSName(host)])))
        key_file.write_bytes(
            key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        )
        key_file.chmod(0o600)
