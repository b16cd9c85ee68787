"""Redfish, the DMTF's protocol: a client for any server, and a service that presents a bench."""
