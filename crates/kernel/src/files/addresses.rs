//! Addresses of sockets. Sources: unix(7), ip(7), ipv6(7).

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, SocketAddrV4, SocketAddrV6};
use std::sync::Arc;

use crate::Errno;
use crate::layout::{Layout, number_at};

/// A family of addresses.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Family {
    /// AF_UNIX
    Unix,
    /// AF_INET
    Internet,
    /// AF_INET6
    Internet6,
}

impl Family {
    /// Its number. Source: <linux/socket.h>.
    pub fn number(self) -> u64 {
        match self {
            Family::Unix => 1,
            Family::Internet => 2,
            Family::Internet6 => 10,
        }
    }

    pub fn from_number(number: u64) -> Option<Family> {
        [Family::Unix, Family::Internet, Family::Internet6]
            .into_iter()
            .find(|family| family.number() == number)
    }

    /// The address that stands for every address of the computer.
    pub fn any(self) -> IpAddr {
        match self {
            Family::Internet6 => Ipv6Addr::UNSPECIFIED.into(),
            _ => Ipv4Addr::UNSPECIFIED.into(),
        }
    }

    /// The address of the computer itself.
    pub fn loopback(self) -> IpAddr {
        match self {
            Family::Internet6 => Ipv6Addr::LOCALHOST.into(),
            _ => Ipv4Addr::LOCALHOST.into(),
        }
    }
}

/// The name of a socket.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum SocketAddress {
    /// None, of AF_UNIX.
    Unnamed,
    /// A path.
    Path(Arc<[u8]>),
    /// A name that is no path.
    Abstract(Arc<[u8]>),
    /// An address and a port.
    Internet(SocketAddr),
}

/// Bytes of `struct sockaddr_un` that the path may take.
const MAX_PATH_BYTES: usize = 108;
/// Bytes of the longest address: `struct sockaddr_storage`.
pub(crate) const MAX_ADDRESS_BYTES: usize = 128;

/// Whether an address is of the computer itself, the only one that there is.
pub(crate) fn is_own(address: IpAddr) -> bool {
    address.to_canonical().is_loopback() || address.is_unspecified()
}

impl SocketAddress {
    /// The name of a new socket.
    pub fn none(family: Family) -> SocketAddress {
        match family {
            Family::Unix => SocketAddress::Unnamed,
            family => SocketAddress::Internet(SocketAddr::new(family.any(), 0)),
        }
    }

    /// An address in the order of memory, as a socket of a family takes it.
    ///
    /// # Errors
    ///
    /// EINVAL if it is too short or too long, EAFNOSUPPORT if it is of another family.
    pub fn parse(bytes: &[u8], family: Family) -> Result<SocketAddress, Errno> {
        if bytes.len() < 2 {
            return Err(Errno::EINVAL);
        }
        let own = number_at(bytes, 0, 2);
        let rest = &bytes[2..];
        match family {
            Family::Unix if own != family.number() => Err(Errno::EINVAL),
            Family::Unix if rest.len() > MAX_PATH_BYTES => Err(Errno::EINVAL),
            Family::Unix => Ok(match rest.first() {
                None => SocketAddress::Unnamed,
                Some(0) => SocketAddress::Abstract(rest[1..].into()),
                Some(_) => {
                    let end = rest.iter().position(|byte| *byte == 0).unwrap_or(rest.len());
                    SocketAddress::Path(rest[..end].into())
                }
            }),
            Family::Internet if bytes.len() < 16 => Err(Errno::EINVAL),
            Family::Internet6 if bytes.len() < 24 => Err(Errno::EINVAL),
            family if own != family.number() => Err(Errno::EAFNOSUPPORT),
            family => {
                let port = u16::from_be_bytes([bytes[2], bytes[3]]);
                Ok(SocketAddress::Internet(match family {
                    Family::Internet6 => {
                        let mut address = [0; 16];
                        address.copy_from_slice(&bytes[8..24]);
                        SocketAddr::new(Ipv6Addr::from(address).into(), port)
                    }
                    _ => {
                        let address = Ipv4Addr::new(bytes[4], bytes[5], bytes[6], bytes[7]);
                        SocketAddr::new(address.into(), port)
                    }
                }))
            }
        }
    }

    /// The address in the order of memory, as a socket of a family tells it.
    pub fn bytes(&self, family: Family) -> Vec<u8> {
        let mut layout = Layout::default();
        layout.put(2, [family.number()]);
        match self {
            SocketAddress::Unnamed => {}
            SocketAddress::Path(path) => {
                layout.0.extend(&path[..]);
                layout.0.push(0);
            }
            SocketAddress::Abstract(name) => {
                layout.0.push(0);
                layout.0.extend(&name[..]);
            }
            SocketAddress::Internet(address) => {
                layout.0.extend(address.port().to_be_bytes());
                match (family, address.ip()) {
                    (Family::Internet6, address) => {
                        let address = match address {
                            IpAddr::V4(address) => address.to_ipv6_mapped(),
                            IpAddr::V6(address) => address,
                        };
                        layout.put(4, [0u64]);
                        layout.0.extend(address.octets());
                        layout.put(4, [0u64]);
                    }
                    (_, IpAddr::V4(address)) => {
                        layout.0.extend(address.octets());
                        layout.fill_to(16);
                    }
                    (_, IpAddr::V6(_)) => layout.fill_to(16),
                }
            }
        }
        layout.0
    }

    /// The address and the port, if it has such.
    pub fn internet(&self) -> Option<SocketAddr> {
        match self {
            SocketAddress::Internet(address) => Some(*address),
            _ => None,
        }
    }

    /// Whether the socket has no name yet.
    pub fn is_none(&self) -> bool {
        match self {
            SocketAddress::Unnamed => true,
            SocketAddress::Internet(address) => address.port() == 0,
            SocketAddress::Path(_) | SocketAddress::Abstract(_) => false,
        }
    }

    /// The address in memory for showing, whatever its family.
    pub fn show(bytes: &[u8]) -> Option<String> {
        let family = Family::from_number(number_at(bytes.get(..2)?, 0, 2))?;
        SocketAddress::parse(bytes, family).ok().map(|address| address.to_string())
    }
}

impl fmt::Display for SocketAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SocketAddress::Unnamed => f.write_str("{no name}"),
            SocketAddress::Path(path) => write!(f, "{{\"{}\"}}", path.escape_ascii()),
            SocketAddress::Abstract(name) => write!(f, "{{\"\\x00{}\"}}", name.escape_ascii()),
            SocketAddress::Internet(SocketAddr::V4(address)) => {
                write!(f, "{{{}}}", SocketAddrV4::new(*address.ip(), address.port()))
            }
            SocketAddress::Internet(SocketAddr::V6(address)) => {
                write!(f, "{{{}}}", SocketAddrV6::new(*address.ip(), address.port(), 0, 0))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_come_back_as_they_were_given() {
        let internet = [2, 0, 0x1f, 0x90, 127, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0];
        let address = SocketAddress::parse(&internet, Family::Internet).unwrap();
        assert_eq!(address.to_string(), "{127.0.0.1:8080}");
        assert_eq!(address.bytes(Family::Internet), internet);
        let mapped = SocketAddress::Internet("127.0.0.1:80".parse().unwrap());
        let bytes = mapped.bytes(Family::Internet6);
        let back = SocketAddress::parse(&bytes, Family::Internet6).unwrap();
        assert_eq!(back.to_string(), "{[::ffff:127.0.0.1]:80}");
        let path = SocketAddress::parse(b"\x01\0lamp\0rest", Family::Unix).unwrap();
        assert_eq!(path.to_string(), "{\"lamp\"}");
        assert_eq!(path.bytes(Family::Unix), b"\x01\0lamp\0");
        let name = SocketAddress::parse(b"\x01\0\0lamp", Family::Unix).unwrap();
        assert_eq!(name.bytes(Family::Unix), b"\x01\0\0lamp");
    }

    #[test]
    fn addresses_that_are_cut_short_or_of_another_family_are_refused() {
        for (bytes, family, errno) in [
            (&b"\x02"[..], Family::Internet, Errno::EINVAL),
            (b"\x02\0\0\x50\x7f\0\0\x01", Family::Internet, Errno::EINVAL),
            (&[1; 16], Family::Internet, Errno::EAFNOSUPPORT),
            (&[0; 4], Family::Unix, Errno::EINVAL),
            (&[1; 120], Family::Unix, Errno::EINVAL),
            (&[10; 20], Family::Internet6, Errno::EINVAL),
        ] {
            assert_eq!(SocketAddress::parse(bytes, family), Err(errno), "{bytes:?}");
        }
    }
}
