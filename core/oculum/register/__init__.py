"""The register at one place of the stream: devices, sites, limits, areas, and the wall clocks of sites."""
