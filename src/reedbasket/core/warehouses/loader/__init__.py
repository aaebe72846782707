"""The loader: staging, write modes, ledger, cursors and file lists, written once for all engines."""
