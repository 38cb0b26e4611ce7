-- A union of places that lend tools, in the manner of a server with backquotes and unsigned numbers.
CREATE TABLE `branch` (
    `branchId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `branchName` VARCHAR(100) NOT NULL,
    `countryCode` CHAR(2) NOT NULL,
    `createdAt` DATETIME NOT NULL,
    `updatedAt` DATETIME NOT NULL
);
CREATE TABLE `borrower` (
    `borrowerId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `branchId` INT UNSIGNED NOT NULL,
    `firstName` VARCHAR(60) NOT NULL,
    `lastName` VARCHAR(60) NOT NULL,
    `emailAddress` VARCHAR(120) NOT NULL,
    `isBanned` TINYINT(1) NOT NULL DEFAULT 0,
    `createdAt` DATETIME NOT NULL,
    `archivedAt` DATETIME NULL,
    UNIQUE KEY (`emailAddress`),
    FOREIGN KEY (`branchId`) REFERENCES `branch` (`branchId`)
);
CREATE TABLE `model` (
    `modelId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `modelName` VARCHAR(80) NOT NULL,
    `manualText` TEXT NOT NULL,
    `description` TEXT NOT NULL,
    `length_mm` INT NOT NULL,
    `discontinuedAt` DATETIME NULL,
    `createdAt` DATETIME NOT NULL,
    UNIQUE KEY (`modelName`)
);
CREATE TABLE `rack` (
    `rackId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `branchId` INT UNSIGNED NOT NULL,
    `rackName` VARCHAR(40) NOT NULL,
    UNIQUE KEY (`branchId`, `rackName`),
    FOREIGN KEY (`branchId`) REFERENCES `branch` (`branchId`)
);
CREATE TABLE `tool` (
    `toolId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `branchId` INT UNSIGNED NOT NULL,
    `modelId` INT UNSIGNED NOT NULL,
    `rackId` INT UNSIGNED NOT NULL,
    `serialNumber` VARCHAR(30) NOT NULL,
    `condition` ENUM('new', 'good', 'worn', 'broken') NOT NULL DEFAULT 'good',
    `boughtOn` DATE NOT NULL,
    `retired` TINYINT(1) NOT NULL DEFAULT 0,
    FOREIGN KEY (`branchId`) REFERENCES `branch` (`branchId`),
    FOREIGN KEY (`modelId`) REFERENCES `model` (`modelId`),
    FOREIGN KEY (`rackId`) REFERENCES `rack` (`rackId`)
);
CREATE TABLE `loan` (
    `loanId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `toolId` INT UNSIGNED NOT NULL,
    `borrowerId` INT UNSIGNED NOT NULL,
    `status` ENUM('open', 'handed_out', 'returned', 'lost', 'cancelled') NOT NULL DEFAULT 'open',
    `createdAt` DATETIME NOT NULL,
    `dueOn` DATE NOT NULL,
    `closedAt` DATETIME NULL,
    FOREIGN KEY (`toolId`) REFERENCES `tool` (`toolId`),
    FOREIGN KEY (`borrowerId`) REFERENCES `borrower` (`borrowerId`)
);
CREATE TABLE `loanHistory` (
    `loanHistoryId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `loanId` INT UNSIGNED NOT NULL,
    `statusFrom` ENUM('open', 'handed_out', 'returned', 'lost', 'cancelled') NULL,
    `statusTo` ENUM('open', 'handed_out', 'returned', 'lost', 'cancelled') NOT NULL,
    `createdAt` DATETIME NOT NULL,
    FOREIGN KEY (`loanId`) REFERENCES `loan` (`loanId`)
);
CREATE TABLE `reservation` (
    `reservationId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `branchId` INT UNSIGNED NOT NULL,
    `borrowerId` INT UNSIGNED NOT NULL,
    `toolId` INT UNSIGNED NOT NULL,
    `requestedAt` DATETIME NOT NULL,
    `plannedFor` DATE NOT NULL,
    `canceledAt` DATETIME NULL,
    FOREIGN KEY (`branchId`) REFERENCES `branch` (`branchId`),
    FOREIGN KEY (`borrowerId`) REFERENCES `borrower` (`borrowerId`),
    FOREIGN KEY (`toolId`) REFERENCES `tool` (`toolId`)
);
CREATE TABLE `message` (
    `messageId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `loanId` INT UNSIGNED NOT NULL,
    `borrowerId` INT UNSIGNED NOT NULL,
    `answerToId` INT UNSIGNED NULL,
    `message` TEXT NOT NULL,
    `createdAt` DATETIME NOT NULL,
    `readAt` DATETIME NULL,
    FOREIGN KEY (`loanId`) REFERENCES `loan` (`loanId`),
    FOREIGN KEY (`borrowerId`) REFERENCES `borrower` (`borrowerId`),
    FOREIGN KEY (`answerToId`) REFERENCES `message` (`messageId`)
);
CREATE TABLE `repair` (
    `repairId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `toolId` INT UNSIGNED NOT NULL,
    `state` VARCHAR(20) NOT NULL DEFAULT 'new',
    `createdAt` DATETIME NOT NULL,
    `startedAt` DATETIME NULL,
    `endedAt` DATETIME NULL,
    `report` TEXT NULL,
    FOREIGN KEY (`toolId`) REFERENCES `tool` (`toolId`)
);
CREATE TABLE `fee` (
    `feeId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `loanId` INT UNSIGNED NOT NULL,
    `borrowerId` INT UNSIGNED NOT NULL,
    `amountCents` INT NOT NULL DEFAULT 500,
    `currency` CHAR(3) NOT NULL,
    `issuedAt` DATETIME NOT NULL,
    `settledAt` DATETIME NULL,
    FOREIGN KEY (`loanId`) REFERENCES `loan` (`loanId`),
    FOREIGN KEY (`borrowerId`) REFERENCES `borrower` (`borrowerId`)
);
CREATE TABLE `membership` (
    `membershipId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `borrowerId` INT UNSIGNED NOT NULL,
    `plan` VARCHAR(20) NOT NULL DEFAULT 'basic',
    `startedOn` DATE NOT NULL,
    `endedOn` DATE NULL,
    FOREIGN KEY (`borrowerId`) REFERENCES `borrower` (`borrowerId`)
);
CREATE TABLE `openingHours` (
    `branchId` INT UNSIGNED NOT NULL,
    `weekday` TINYINT NOT NULL,
    `opens` TIME NOT NULL,
    `closes` TIME NOT NULL,
    PRIMARY KEY (`branchId`, `weekday`),
    FOREIGN KEY (`branchId`) REFERENCES `branch` (`branchId`)
);
CREATE TABLE `terminal` (
    `terminalId` INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `branchId` INT UNSIGNED NOT NULL,
    `macAddress` CHAR(17) NOT NULL,
    `lastSeenEpoch` INT UNSIGNED NOT NULL,
    FOREIGN KEY (`branchId`) REFERENCES `branch` (`branchId`)
);
CREATE TABLE `scan` (
    `scanId` BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
    `terminalId` INT UNSIGNED NOT NULL,
    `toolId` INT UNSIGNED NOT NULL,
    `scannedTs` BIGINT NOT NULL,
    FOREIGN KEY (`terminalId`) REFERENCES `terminal` (`terminalId`),
    FOREIGN KEY (`toolId`) REFERENCES `tool` (`toolId`)
);
