package api

// Prefix is where the API is found below a service's address.
const Prefix = "/api/v1"
