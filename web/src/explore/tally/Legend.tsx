import { useToken } from "@chakra-ui/react";
import { usual } from "../../shared/plot/Frame";
import { middle } from "../../shared/words";

/** The dashes that tell lines apart, and the shades that tell parts apart. */
export const dashes = [undefined, "6 3", "2 3", "8 3 2 3", "1 5"];
export const shades = [0.9, 0.62, 0.42, 0.25, 0.12];

/** What the lines or parts of a picture stand for. */
export function Legend({ names, lines }: { names: string[]; lines: boolean }) {
  const [ink] = useToken("colors", ["ink"]);
  return names.length < 2 ? null : (
    <g style={{ fontSize: 11 }} fill={ink}>
      {names.map((name, k) => (
        <g key={name} transform={`translate(${usual.left + 130 + k * 122}, 8)`}>
          {lines ? (
            <line x1="0" x2="22" y1="0" y2="0" stroke={ink} strokeWidth="1.5" strokeDasharray={dashes[k]} />
          ) : (
            <rect
              x="8"
              y="-5"
              width="10"
              height="10"
              fillOpacity={shades[k]}
              stroke={ink}
              strokeWidth="0.6"
            />
          )}
          <text x="27" y="4" stroke="none">
            {middle(name, 15)}
          </text>
        </g>
      ))}
    </g>
  );
}
