"""The practice renderer: small and honest, to have something real to send to a farm."""
