"""Signs with a secret key of the auditor's own (RFC 9580), by the library for it."""

from filigree.model.errors import BadQuestion


def sign_detached(data: bytes, key: bytes) -> bytes:
    """A detached signature, armoured. Raises BadQuestion where the key cannot sign."""
    from pysequoia import SignatureMode, Tsk, sign

    try:
        signer = Tsk.from_bytes(key).signer()
        return bytes(sign(signer, data, mode=SignatureMode.DETACHED, armor=True))
    except Exception as error:  # the library has no sorts of its own
        raise BadQuestion(
            f"the key cannot sign: {str(error).partition(chr(10))[0]}",
            None,
            "give a file with an OpenPGP key, its secret part included and without a passphrase",
        ) from error
