#pragma once

#include "apps/zunth/command.hpp"
#include "service/client/nodes.hpp"

/// Nodes as the command line names them.
namespace zunth::cli {

using client::childrenOf;
using client::factsOf;
using client::factsOfType;
using client::findNode;
using client::findNodes;
using client::findType;
using client::Found;
using client::isAlarm;
using client::NodeFinder;
using client::typedValue;
using client::valueJson;
using client::valueText;
using client::VariableFacts;

}  // namespace zunth::cli
