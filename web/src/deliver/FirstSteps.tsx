import { chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import { BringDemo } from "./BringDemo";

/** The way to take in a file, for a dataset where one is named. */
export function TakeIn({ dataset }: { dataset?: string }) {
  return (
    <Link to="/new" search={{ dataset }}>
      Take in a file
    </Link>
  );
}

/** What a service without a dataset shows: the way from a file to a verdict. */
export function FirstSteps() {
  return (
    <chakra.section aria-label="The first steps" maxW="760px">
      <Text mb="2">Nothing has arrived yet. From a file to a verdict it is three steps:</Text>
      <chakra.ol pl="6" listStyleType="decimal">
        <li>
          <Text>
            <TakeIn />: drop it anywhere on this page. You see how it is read, and why, before it is a
            delivery.
          </Text>
        </li>
        <li>
          <Text>
            Look at what is odd in it. Everything suspicious is told without being asked for, what costs most
            first.
          </Text>
        </li>
        <li>
          <Text>
            Take or leave, line by line, what could hold; the delivery is judged by it, and so is every one
            after it.
          </Text>
        </li>
      </chakra.ol>
      <BringDemo />
    </chakra.section>
  );
}
