#pragma once

#include "core/space/space.hpp"
#include "service/client/session.hpp"

/// The address space of a running server, of any make, as a model.
namespace zunth::client {

struct ModelReadOptions {
  bool allValues = false;  // else those of properties and types, which say what a node is; others are the plant's
  std::function<void(std::size_t nodes)> progress;
};

/// Walks the server's hierarchies and types and gives what is in namespaces beside the standard's and the server's own:
/// nodes with their attributes, references and values, in a space that holds namespace 0. Indexes are as in the
/// server's namespace table. What a server doesn't tell is left at its default.
Awaitable<ua::Result<std::unique_ptr<space::Space>>> readModel(std::shared_ptr<Session> session,
                                                               ModelReadOptions options);

}  // namespace zunth::client
