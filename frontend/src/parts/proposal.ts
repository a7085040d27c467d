import type { Schemas } from "../api/client";

type Proposal = Schemas["ProposalOut"];

/** What waits for a yes or no, in a few words; empty where nothing does. */
export function waiting(data: Proposal): string {
  const rigs = data.rigs.length === 1 ? "One rig is" : `${data.rigs.length} rigs are`;
  const names = data.doubts.length === 1 ? "one name is" : `${data.doubts.length} names are`;
  const words = [
    data.rigs.length > 0 && `${rigs} proposed from your headers`,
    data.doubts.length > 0 && `${names} open`,
  ];
  const said = words.filter(Boolean).join(", and ");
  return said.charAt(0).toUpperCase() + said.slice(1);
}
