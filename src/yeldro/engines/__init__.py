"""All that differs between databases. Every engine fulfils the protocol in `core/database`."""
