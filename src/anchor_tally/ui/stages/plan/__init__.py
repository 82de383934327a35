"""Plan: clients, instruments, protocol, assessors."""
