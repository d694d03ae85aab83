"""An authority of a studio's own, and the certificate its machines know each other by."""

from __future__ import annotations

import datetime
import os
from pathlib import Path

from grandlattice.errors import OutputError, PlanError

AUTHORITY, CERTIFICATE, KEY = "authority.pem", "certificate.pem", "key.pem"
_DAYS = 825


def make_certificates(folder: Path) -> list[Path]:
    """Write an authority and a certificate that it signed; its own key is forgotten, so that it signs no
    other.

    Every machine of a cluster has the same three files: each machine that has them is let in.

    Raises
    ------
    OutputError
        When some are there already, or cannot be written.
    PlanError
        When what makes them is not installed.
    """
    try:
        from cryptography import x509
        from cryptography.hazmat.primitives import hashes, serialization
        from cryptography.hazmat.primitives.asymmetric import ec
        from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
    except ImportError:
        raise PlanError(
            "What makes certificates is not installed.", cure='python -m pip install "cryptography>=46,<52"'
        ) from None
    files = [folder / name for name in (AUTHORITY, CERTIFICATE, KEY)]
    for path in files:
        if path.exists():
            raise OutputError(f"{path} exists already and is left as it is.", cure="name another folder")
    begins = datetime.datetime.now(datetime.UTC) - datetime.timedelta(minutes=5)

    def builder(name: str, issuer: str, public: ec.EllipticCurvePublicKey) -> x509.CertificateBuilder:
        def named(text: str) -> x509.Name:
            return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])

        made = x509.CertificateBuilder().subject_name(named(name)).issuer_name(named(issuer))
        made = made.public_key(public).serial_number(x509.random_serial_number())
        return made.not_valid_before(begins).not_valid_after(begins + datetime.timedelta(days=_DAYS))

    top, own = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    authority = builder("cluster authority", "cluster authority", top.public_key())
    authority = authority.add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
    certificate = builder("cluster machine", "cluster authority", own.public_key())
    certificate = certificate.add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
    usage = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.CLIENT_AUTH])
    certificate = certificate.add_extension(usage, critical=False)
    pem = serialization.Encoding.PEM
    contents = [
        authority.sign(top, hashes.SHA256()).public_bytes(pem),
        certificate.sign(top, hashes.SHA256()).public_bytes(pem),
        own.private_bytes(pem, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()),
    ]
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for path, content in zip(files, contents, strict=True):
            with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as stream:
                stream.write(content)
    except OSError as problem:
        raise OutputError(f"{folder} cannot be written: {problem.strerror or problem}.") from problem
    return files
