"""The words for what the core found out. The core has facts, this has the sentences."""
