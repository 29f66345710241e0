#!/usr/bin/env bash
# Start PostgreSQL (port 5432) and MariaDB (port 3306) where they are installed and do not answer.
set -u
answers() { (exec 3<>"/dev/tcp/127.0.0.1/$1") 2>/dev/null; }
if ! answers 5432 && command -v pg_ctlcluster >/dev/null; then
    for version in /etc/postgresql/*; do pg_ctlcluster --skip-systemctl-redirect "${version##*/}" main start; done
fi
if ! answers 3306 && [ -x /usr/sbin/mariadbd ]; then
    start-stop-daemon --start --oknodo --background --exec /usr/sbin/mariadbd
fi
for _ in $(seq 30); do
    { answers 5432 || ! command -v pg_ctlcluster >/dev/null; } && { answers 3306 || [ ! -x /usr/sbin/mariadbd ]; } && break
    sleep 1
done
for port in 5432 3306; do answers "$port" && echo "port $port answers" || echo "port $port does not answer"; done
