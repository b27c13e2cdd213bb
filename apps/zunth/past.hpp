#pragma once

#include "apps/zunth/nodes.hpp"
#include "service/client/past.hpp"

namespace zunth::cli {

using client::eachPast;
using client::Past;
using client::PastWish;
using client::readModified;
using client::readPast;
using client::readPastEvents;
using client::updatePast;

}  // namespace zunth::cli
