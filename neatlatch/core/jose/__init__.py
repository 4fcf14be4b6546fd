"""JSON Web Signatures, Keys and Tokens (RFC 7515, 7517, 7518, 7519, 7638, 8037)."""
