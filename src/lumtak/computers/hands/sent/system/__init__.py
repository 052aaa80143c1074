"""What the system itself records: packages, digests, scanners."""
