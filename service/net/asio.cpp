// What Boost.Asio and Boost.Beast have beside templates; see CMakeLists.txt.
#include <boost/asio/impl/src.hpp>
#include <boost/asio/ssl/impl/src.hpp>
#include <boost/beast/src.hpp>
