"""What `reed serve` can be told. The same as service.settings.Settings, which takes half a second to import; a test holds them equal."""

SERVE: tuple[tuple[str, str | int, str], ...] = (
    ("host", "127.0.0.1", "address to listen on; anything but loopback wants TLS"),
    ("port", 8640, "port to listen on; 0 lets the system pick"),
    ("workers", 2, "worker processes, one run each at a time"),
    ("threads", 16, "threads that answer requests"),
    ("hosts", "", "further host names, comma separated, by which the service may be called"),
    ("public_url", "", "address by which people reach it, for links"),
    ("proxy", "", "address of the proxy in front, whose X-Forwarded-For and -Proto count"),
    ("tls_cert", "", "file with the certificate and its chain (PEM), to answer with TLS"),
    ("tls_key", "", "file with its key (PEM)"),
    ("grace_seconds", 20, "seconds that runs may still take when the service is stopped"),
    ("keep_days", 14, "days for which the requests of runs are kept"),
    ("keep_runs_days", 400, "days for which runs with their log, and notices, are kept"),
    ("keep_rejects_days", 400, "days for which rejects are kept"),
    ("keep_audit_days", 800, "days for which it is kept who changed what"),
    ("mail_server", "", "host:port of the server that takes mail; no mail without it"),
    ("mail_tls", "starttls", "none, starttls or tls"),
    ("mail_from", "reed-basket@localhost", "address that mail comes from"),
    ("mail_user", "", "user at the mail server; the secret mail_password is the password"),
    ("mail_to", "", "who hears of failures of feeds that name nobody, comma separated"),
    ("log_format", "text", "text, or json: an object a line"),
)
