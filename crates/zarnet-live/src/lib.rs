//! Devices over the network.
