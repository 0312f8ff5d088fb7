"""DNSSEC as the RFCs have it: keys and DS, signatures, proofs of denial. Pure: bytes and a moment in, a verdict out."""
